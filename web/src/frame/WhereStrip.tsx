import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Redo2, Undo2, X } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { draftQuery, redoInDraft, undoInDraft } from "../api/drafts";
import type { DraftReview } from "../api/drafts";
import { meQuery } from "../api/people";
import { everything } from "../api/queries";
import { counted } from "../parts/wording";
import type { Present } from "./useEvents";
import { lookAt } from "./where";
import type { Where } from "./where";

/** Says unmistakably that one looks at a draft or at the estate as it was, and leads back. */
export function WhereStrip({ where, present }: { where: Where; present: Present[] }) {
  if (where.kind === "draft") return <DraftStrip id={where.id} present={present} />;
  if (where.kind === "revision")
    return (
      <Bar label={`Estate as of revision ${where.number}`}>
        <span className="font-semibold">The estate as of revision {where.number}</span>
        <span className="flex-1 text-soft">Read-only.</span>
        <Link to={`/changes/history`} className="text-accent hover:underline">
          History
        </Link>
        <Leave />
      </Bar>
    );
  return null;
}

function Bar({ label, children }: { label: string; children: ReactNode }) {
  return (
    <section
      aria-label={label}
      className="flex flex-none items-center gap-4 border-t-2 border-accent bg-accent/10 px-5 py-1.5 text-[13px]"
    >
      {children}
    </section>
  );
}

function Leave() {
  return (
    <button
      onClick={() => lookAt({ kind: "applied" })}
      className="flex flex-none items-center gap-1 rounded border border-line bg-sheet px-2.5 py-0.5 hover:border-accent"
    >
      <X size={13} /> Show applied estate
    </button>
  );
}

function DraftStrip({ id, present }: { id: number; present: Present[] }) {
  const queries = useQueryClient();
  const draft = useQuery(draftQuery(id));
  const me = useQuery(meQuery);
  const again = async () => {
    await queries.invalidateQueries({ queryKey: ["drafts"] });
    await queries.invalidateQueries({ queryKey: everything });
  };
  const turn = useMutation({
    mutationFn: (undo: boolean) => (undo ? undoInDraft(id) : redoInDraft(id)),
    onSettled: again,
  });
  if (draft.error)
    return (
      <Bar label="Draft">
        <span className="flex-1 text-denied">
          Draft {id} cannot be shown: {draft.error.message}
        </span>
        <Leave />
      </Bar>
    );
  const d = draft.data;
  if (d?.id !== id) return <Bar label="Draft">Draft {id}</Bar>;
  const others = present.filter((p) => p.name !== me.data?.name);
  const open = d.state !== "applied" && d.state !== "discarded" && me.data?.roles.includes("engineer");
  return (
    <Bar label={`Draft ${d.name}`}>
      <span className="flex-none">
        Draft <strong>{d.name}</strong>
        <span className="text-soft"> · {stateWords[d.state]}</span>
      </span>
      <span className="min-w-0 flex-1 truncate" aria-live="polite" data-testid="draft-summary">
        {summary(d)}
        {others.map((p) => (
          <span key={p.name} className="text-soft" title={p.called}>
            {" "}
            · {p.called} is here{p.open && `, with ${p.open.replace("/", " ")} open`}
          </span>
        ))}
      </span>
      {open && (
        <>
          <Tool
            label="Undo step"
            disabled={turn.isPending || d.steps === 0}
            onClick={() => turn.mutate(true)}
          >
            <Undo2 size={15} />
          </Tool>
          <Tool
            label="Redo step"
            disabled={turn.isPending || !d.stepList.some((s) => s.undone)}
            onClick={() => turn.mutate(false)}
          >
            <Redo2 size={15} />
          </Tool>
        </>
      )}
      <Link
        to={`/changes/${id}`}
        className="flex-none rounded bg-accent px-3 py-0.5 font-semibold text-sheet"
      >
        Review
      </Link>
      <Leave />
    </Bar>
  );
}

export const stateWords: Record<DraftReview["state"], string> = {
  open: "open",
  review: "in review",
  approved: "approved",
  applied: "applied",
  discarded: "discarded",
};

/** What a draft does, in a line. */
function summary(d: DraftReview): string {
  const flows = d.consequence.effect ? d.consequence.effect.flows.length + d.consequence.effect.more : 0;
  const breaks =
    d.consequence.effect?.expectations.filter((x) => x.after === "breaks" && x.before !== "breaks").length ??
    0;
  const parts = [counted(d.steps, "step")];
  parts.push(flows === 0 ? "no flows change" : counted(flows, "flow group changes", "flow groups change"));
  if (breaks > 0) parts.push(counted(breaks, "expectation fails", "expectations fail"));
  if (d.consequence.refused.length > 0) parts.push(counted(d.consequence.refused.length, "fault"));
  if (d.conflicts.length > 0) parts.push(counted(d.conflicts.length, "conflict"));
  return parts.join(" · ");
}

function Tool({
  label,
  disabled,
  onClick,
  children,
}: {
  label: string;
  disabled: boolean;
  onClick: () => void;
  children: ReactNode;
}) {
  return (
    <button
      aria-label={label}
      title={label}
      disabled={disabled}
      onClick={onClick}
      className="flex-none rounded border border-line bg-sheet p-1 hover:border-accent disabled:opacity-40"
    >
      {children}
    </button>
  );
}
