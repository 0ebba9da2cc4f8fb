import { MessageSquare } from "lucide-react";
import { useState } from "react";
import { Link, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { isWritten, placeOf } from "../../parts/ThingLink";
import { capital, counted } from "../../parts/wording";
import { says } from "../rules/kinds";
import type { RuleKind, RuleObject } from "../rules/kinds";
import { topicOf } from "./topics";
import { linesOf } from "./lines";

interface Props {
  objects: Schemas["ObjectDiff"][];
  comments?: Schemas["Comment"][];
  /** Begins a comment on an object; left out where nothing can be said. */
  onComment?: (about: string) => void;
}

/** The objects that change, as sentences where they are written as such, and else as text. */
export function Objects({ objects, comments, onComment }: Props) {
  const [text, setText] = useState(false);
  if (objects.length === 0) return <p className="text-soft">No objects change.</p>;
  return (
    <>
      <div className="flex items-baseline gap-4">
        <span className="flex-1 text-soft">
          {counted(objects.length, "object changes", "objects change")}
        </span>
        <label className="flex items-center gap-1.5 text-[13px] text-soft">
          <input type="checkbox" checked={text} onChange={(e) => setText(e.target.checked)} />
          as text
        </label>
      </div>
      <ul aria-label="Objects that change">
        {objects.map((o) => (
          <li key={`${o.kind} ${o.name}`} className="border-t border-line py-1.5">
            <div className="flex items-baseline gap-3">
              <Head diff={o} />
              {onComment && (
                <Talk topic={topicOf(o.kind, o.name)} comments={comments ?? []} onComment={onComment} />
              )}
            </div>
            {text || !isSentence(o) ? <Text diff={o} /> : <Sentences diff={o} />}
          </li>
        ))}
      </ul>
    </>
  );
}

interface TalkProps {
  topic: string;
  comments: Schemas["Comment"][];
  onComment: (about: string) => void;
}

/** How many comments on an object wait for an answer, and the button for another. */
function Talk({ topic, comments, onComment }: TalkProps) {
  const open = comments.filter((c) => c.about === topic && c.resolved === "").length;
  return (
    <button
      aria-label={open > 0 ? `${counted(open, "open comment")} on ${topic}` : `Comment on ${topic}`}
      title={`Comment on ${topic}`}
      onClick={() => onComment(topic)}
      className={`ml-auto flex min-h-6 flex-none items-center gap-1 text-[13px] hover:text-accent print:hidden ${open > 0 ? "text-ink" : "text-soft"}`}
    >
      <MessageSquare size={13} />
      {open > 0 && counted(open, "open comment")}
    </button>
  );
}

function Head({ diff }: { diff: Schemas["ObjectDiff"] }) {
  const { search } = useLocation();
  const what = diff.before === "" ? "new" : diff.after === "" ? "deleted" : "";
  return (
    <p>
      <span className="text-soft">{capital(diff.kind)}</span>{" "}
      {isWritten(diff.kind) && diff.after !== "" ? (
        <Link
          className="font-semibold hover:text-accent"
          to={placeOf({ kind: diff.kind, name: diff.name }, search)}
        >
          {diff.name}
        </Link>
      ) : (
        <span className="font-semibold">{diff.name}</span>
      )}
      {diff.was && <span className="text-soft"> (renamed from {diff.was})</span>}
      {what && (
        <span className={`ml-2 text-[13px] ${what === "deleted" ? "text-denied" : "text-allowed"}`}>
          {what}
        </span>
      )}
    </p>
  );
}

const sentences = ["policy", "share", "publication", "expectation"];
const isSentence = (o: Schemas["ObjectDiff"]) => sentences.includes(o.kind);

function Sentences({ diff }: { diff: Schemas["ObjectDiff"] }) {
  const say = (body: string) => {
    const object = JSON.parse(body) as RuleObject;
    return `${object.enabled === false ? "Switched off. " : ""}${says(diff.kind as RuleKind, object)}`;
  };
  const [was, is] = [diff.before && say(diff.before), diff.after && say(diff.after)];
  if (was === is) return <Text diff={diff} />;
  return (
    <div className="text-[13px]">
      {was && <p className="text-soft line-through decoration-soft/60">{was}</p>}
      {is && <p>{is}</p>}
    </div>
  );
}

function Text({ diff }: { diff: Schemas["ObjectDiff"] }) {
  return (
    <pre className="overflow-x-auto rounded bg-wash/60 px-2 py-1 font-mono text-xs leading-[1.45]">
      {linesOf(diff.before, diff.after).map((line, i) => (
        <span
          key={i}
          className={`block ${line.sign === "+" ? "text-allowed" : line.sign === "-" ? "text-denied" : "text-soft"}`}
        >
          {line.sign} {line.text}
        </span>
      ))}
    </pre>
  );
}
