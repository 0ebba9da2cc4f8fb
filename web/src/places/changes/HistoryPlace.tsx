import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { reviewLater, revisionsQuery, rollBack } from "../../api/drafts";
import { lookAt } from "../../frame/where";
import { problemText } from "../../parts/ConsequenceView";
import { Button } from "../../parts/fields";
import { counted, moment } from "../../parts/wording";
import { Tabs } from "./ChangesPlace";

/** The revisions of the applied estate, the newest first. */
export function HistoryPlace() {
  const [all, setAll] = useState(false);
  const pages = useInfiniteQuery(revisionsQuery(all));
  const queries = useQueryClient();
  const navigate = useNavigate();
  const back = useMutation({
    mutationFn: rollBack,
    onSuccess: async (d) => {
      await queries.invalidateQueries({ queryKey: ["drafts"] });
      lookAt({ kind: "draft", id: d.id });
      void navigate(`/changes/${d.id}`);
    },
  });
  const review = useMutation({
    mutationFn: reviewLater,
    onSuccess: () => queries.invalidateQueries({ queryKey: ["revisions"] }),
  });
  const entries = pages.data?.pages.flatMap((p) => p.entries) ?? [];
  const error = pages.error ?? back.error ?? review.error;
  return (
    <section aria-label="History" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      <div className="flex items-center gap-4 pt-3 pb-2">
        <p className="flex-1 text-soft">Every step of the applied estate. Open one to see what it changed.</p>
        {entries[0] && <CompareForm last={entries[0].number} />}
        <label className="flex items-center gap-1.5 text-[13px] text-soft">
          <input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} />
          with syncs and announcements
        </label>
      </div>
      {error && (
        <p role="alert" className="text-denied">
          {problemText(error)}
        </p>
      )}
      {pages.data && entries.length === 0 && <p>Nothing has been changed yet.</p>}
      <table className="w-full text-left">
        <tbody>
          {entries.map((e) => (
            <Revision
              key={e.number}
              e={e}
              onBack={() => back.mutate(e.number)}
              onReview={() => review.mutate(e.number)}
            />
          ))}
        </tbody>
      </table>
      {pages.hasNextPage && (
        <p className="pt-3">
          <Button onClick={() => void pages.fetchNextPage()}>Show older revisions</Button>
        </p>
      )}
    </section>
  );
}

/** Compares any two revisions. */
function CompareForm({ last }: { last: number }) {
  const navigate = useNavigate();
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const field = (label: string, value: string, placeholder: number, set: (value: string) => void) => (
    <label className="flex items-center gap-1.5">
      {label}
      <input
        type="number"
        required
        min={1}
        max={last}
        value={value}
        placeholder={String(placeholder)}
        onChange={(e) => set(e.target.value)}
        className="w-20 rounded-md border border-line bg-sheet px-2 py-0.5"
      />
    </label>
  );
  return (
    <form
      aria-label="Compare two revisions"
      className="flex items-center gap-2 text-[13px] text-soft"
      onSubmit={(e) => {
        e.preventDefault();
        void navigate(`/changes/history/${from}/${to}`);
      }}
    >
      {field("Compare revision", from, Math.max(1, last - 1), setFrom)}
      {field("with", to, last, setTo)}
      <Button type="submit">Compare</Button>
    </form>
  );
}

/** What a revision is called: its draft, or what brought it. */
export const revisionTitle = (e: Schemas["RevisionEntry"]): string =>
  e.note ? e.note.name : e.what === "edit" ? e.words || "edit" : e.what;

function Revision({
  e,
  onBack,
  onReview,
}: {
  e: Schemas["RevisionEntry"];
  onBack: () => void;
  onReview: () => void;
}) {
  return (
    <tr className="border-b border-line/60 align-top">
      <td className="py-1.5 pr-4 text-soft">{e.number}</td>
      <td className="py-1.5 pr-4 whitespace-nowrap text-soft">{moment(e.at)}</td>
      <td className="max-w-[30rem] py-1.5 pr-4">
        <Link
          to={`/changes/history/${e.number - 1}/${e.number}`}
          className="font-semibold text-accent hover:underline"
        >
          {revisionTitle(e)}
        </Link>{" "}
        <span className="text-soft">{counted(e.changes, "object")}</span>
        {e.note?.ticket && <span className="text-soft"> · {e.note.ticket}</span>}
        {e.note?.reason && <span className="block text-[13px] text-soft">{e.note.reason}</span>}
        {e.note?.emergency && (
          <span className="block text-[13px] text-denied">
            Applied without approval: {e.note.emergency}.{" "}
            {e.reviewed ? `Reviewed by ${e.reviewed}.` : "Not reviewed yet."}
          </span>
        )}
      </td>
      <td className="py-1.5 pr-4">
        {e.actor}
        {e.note && e.note.authors.length > 0 && (
          <span className="block text-[13px] text-soft">written by {e.note.authors.join("; ")}</span>
        )}
        {e.note && e.note.approvals.length > 0 && (
          <span className="block text-[13px] text-soft">approved by {e.note.approvals.join("; ")}</span>
        )}
      </td>
      <td className="py-1.5 text-right text-[13px] whitespace-nowrap">
        <button
          className="text-accent hover:underline"
          onClick={() => lookAt({ kind: "revision", number: e.number })}
        >
          Show estate as of {e.number}
        </button>
        {e.what === "edit" && (
          <button className="ml-4 text-accent hover:underline" onClick={onBack}>
            Roll back
          </button>
        )}
        {e.note?.emergency && !e.reviewed && (
          <button className="ml-4 text-accent hover:underline" onClick={onReview}>
            Mark as reviewed
          </button>
        )}
      </td>
    </tr>
  );
}
