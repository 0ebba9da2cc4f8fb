import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { commentOnDraft, resolveComment } from "../../api/drafts";
import type { DraftReview } from "../../api/drafts";
import { Button } from "../../parts/fields";
import { Pick } from "../../parts/Pick";
import { moment } from "../../parts/wording";
import { topicsOf } from "./topics";

interface Props {
  d: DraftReview;
  /** What the next comment is about; "" for the draft. */
  about: string;
  onAbout: (about: string) => void;
}

/** What people say about a draft, an object of it, or a set of flows that changes. */
export function Comments({ d, about, onAbout }: Props) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const topics = topicsOf(d);
  const again = () => queries.invalidateQueries({ queryKey: ["drafts", d.id] });
  const say = useMutation({
    mutationFn: () => commentOnDraft(d.id, topics.includes(about) ? about : "", text),
    onSuccess: () => {
      setText("");
      return again();
    },
  });
  const resolve = useMutation({ mutationFn: (id: number) => resolveComment(d.id, id), onSuccess: again });
  return (
    <>
      <ul aria-label="Comments">
        {d.comments.map((c) => (
          <li key={c.id} className="border-t border-line py-1.5">
            <p className="flex items-baseline gap-2 text-[13px] text-soft">
              <span className="flex-1">
                {c.author}, {moment(c.at)}
                {c.about && `, on ${c.about}`}
              </span>
              {c.resolved ? (
                `resolved by ${c.resolved}`
              ) : (
                <button className="text-accent hover:underline" onClick={() => resolve.mutate(c.id)}>
                  Resolve
                </button>
              )}
            </p>
            <p className={c.resolved ? "text-soft" : ""}>{c.text}</p>
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap gap-2 pt-1 print:hidden"
        onSubmit={(event) => {
          event.preventDefault();
          say.mutate();
        }}
      >
        {topics.length > 0 && (
          <Pick
            label="About"
            value={topics.includes(about) ? about : ""}
            options={[["", "on the draft"], ...topics.map((t) => [t, `on ${t}`] as const)]}
            className="max-w-60 rounded bg-sheet px-2 text-[13px]"
            onChange={onAbout}
          />
        )}
        <input
          aria-label="Comment"
          placeholder="Write a comment"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className="min-w-0 flex-1 rounded border border-line bg-sheet px-2.5 py-1"
        />
        <Button type="submit" disabled={say.isPending || text.trim() === ""}>
          Comment
        </Button>
      </form>
      {say.error && <p className="text-denied">{say.error.message}</p>}
    </>
  );
}
