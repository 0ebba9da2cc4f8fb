import { useQuery } from "@tanstack/react-query";
import { Link, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { draftFindingsQuery } from "../../api/drafts";
import type { DraftReview } from "../../api/drafts";
import { problemText } from "../../parts/ConsequenceView";
import { capital, counted } from "../../parts/wording";

/** The findings that a draft brings, and those that it does away with. */
export function FindingChanges({ d }: { d: DraftReview }) {
  const found = useQuery(draftFindingsQuery(d.id, d.version));
  return (
    <section aria-label="Findings that change">
      <h2 className="pt-5 pb-1 font-serif text-[17px] font-semibold">What changes in the findings</h2>
      {found.error && (
        <p role="alert" className="text-denied">
          {problemText(found.error)}
        </p>
      )}
      {found.isPending && <p className="text-soft">Looking for problems…</p>}
      {found.data && <Changes found={found.data} />}
    </section>
  );
}

function Changes({ found }: { found: Schemas["IssueChanges"] }) {
  if (found.new.length + found.gone.length === 0) {
    return <p className="text-soft">No findings come or go: {counted(found.after, "finding")} as before.</p>;
  }
  return (
    <>
      <List title="New" list={found.new} more={found.newMore} open />
      <List title="Resolved" list={found.gone} more={found.goneMore} />
    </>
  );
}

interface ListProps {
  title: string;
  list: Schemas["IssueChange"][];
  more: number;
  open?: boolean;
}

function List({ title, list, more, open }: ListProps) {
  const { search } = useLocation();
  if (list.length === 0) return null;
  return (
    <div className="pt-1 text-[13px]">
      <p className={`font-semibold ${open ? "text-denied" : "text-allowed"}`}>
        {title}: {list.length + more}
      </p>
      <ul aria-label={`${title} findings`}>
        {list.map(({ severity, issue }) => (
          <li key={issue.key} className="flex gap-3 border-b border-line/60 py-1 last:border-0">
            <span className="w-14 flex-none text-soft">{severity}</span>
            <span className="min-w-0">
              {open ? <Found issue={issue} search={search} /> : capital(issue.message)}
            </span>
          </li>
        ))}
      </ul>
      {more > 0 && <p className="text-soft">and {counted(more, "finding")} more</p>}
    </div>
  );
}

/** A finding of the draft, which is there to be looked at. */
function Found({ issue, search }: { issue: Schemas["Issue"]; search: string }) {
  const params = new URLSearchParams(search);
  params.set("finding", issue.key);
  return (
    <Link to={`/findings?${params}`} className="hover:text-accent hover:underline">
      {capital(issue.message)}
    </Link>
  );
}
