import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { blameQuery } from "../api/drafts";
import { useWhere } from "../frame/where";
import { Sentence } from "../parts/Sentence";
import { day } from "../parts/wording";
import { revisionTitle } from "../places/changes/HistoryPlace";

interface Props {
  asked: { from: string; to: string; on: string; sport?: number; publication?: string };
}

/** Since when a flow has its outcome in the applied estate, by which revision, and by whom. */
export function SinceWhen({ asked }: Props) {
  const [open, setOpen] = useState(false);
  const w = useWhere();
  const blame = useQuery({ ...blameQuery(asked), enabled: open });
  if (w.kind !== "applied") return null;
  return (
    <section aria-label="Since when" className="border-t border-line px-5 py-3 text-[13px]">
      <button
        aria-expanded={open}
        className="font-semibold text-accent hover:underline"
        onClick={() => setOpen(!open)}
      >
        Since when?
      </button>
      {open && blame.isPending && <p className="pt-1 text-soft">Looking through the revisions…</p>}
      {open && blame.error && <p className="pt-1 text-denied">{blame.error.message}</p>}
      {open && blame.data && blame.data.since.length === 0 && (
        <p className="pt-1">For as long as the history goes back.</p>
      )}
      {open && (
        <ol>
          {blame.data?.since.map((s) => (
            <li key={s.number} className="pt-2">
              <p>
                <strong>Since {day(s.at)}</strong> by{" "}
                <Link
                  to={`/changes/history/${s.number - 1}/${s.number}`}
                  className="text-accent hover:underline"
                >
                  {s.note ? `draft ${s.note.name}` : revisionTitle(s)}
                </Link>
                , {s.note ? `written by ${s.note.authors.join("; ")}, applied by ${s.actor}` : s.actor}
                {s.note && s.note.approvals.length > 0 && <>, approved by {s.note.approvals.join("; ")}</>}
              </p>
              <p className="text-soft">
                Before: <Sentence tokens={s.was} />
              </p>
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}
