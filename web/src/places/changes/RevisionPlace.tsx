import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { compareQuery } from "../../api/drafts";
import { ConsequenceView } from "../../parts/ConsequenceView";
import { moment } from "../../parts/wording";
import { Tabs } from "./ChangesPlace";
import { revisionTitle } from "./HistoryPlace";
import { Objects } from "./Objects";

/** What differs between two revisions of the applied estate. */
export function RevisionPlace() {
  const { from, to } = useParams();
  const comparison = useQuery(compareQuery(Number(from), Number(to)));
  const c = comparison.data;
  return (
    <section aria-label="Revision" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      {comparison.error && <p className="pt-4 text-denied">{comparison.error.message}</p>}
      {comparison.isPending && <p className="pt-4 text-soft">Computing what differs…</p>}
      {c && (
        <>
          <h1 className="pt-4 font-serif text-[22px] font-semibold">
            {c.entry ? revisionTitle(c.entry) : `From revision ${c.from} to ${c.to}`}
          </h1>
          {c.entry && (
            <p className="text-soft">
              Revision {c.to}, {moment(c.entry.at)}, {c.entry.actor}
              {c.entry.note?.reason && `: ${c.entry.note.reason}`}
              {c.entry.note && c.entry.note.approvals.length > 0 && (
                <>. Approved by {c.entry.note.approvals.join("; ")}</>
              )}
            </p>
          )}
          <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-x-10 max-[1000px]:grid-cols-1">
            <div>
              <h2 className="pt-4 pb-1 font-serif text-[17px] font-semibold">What changed in the rules</h2>
              <Objects objects={c.objects} />
            </div>
            <div>
              <h2 className="pt-4 pb-1 font-serif text-[17px] font-semibold">What changed for flows</h2>
              <ConsequenceView consequence={c.consequence} />
            </div>
          </div>
        </>
      )}
    </section>
  );
}
