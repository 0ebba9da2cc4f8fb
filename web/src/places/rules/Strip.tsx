import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/people";
import type { Operation } from "../../api/queries";
import { ConsequenceView, KeepAnyway, problemText } from "../../parts/ConsequenceView";
import { counted } from "../../parts/wording";
import { nameIn } from "./WhatIsWritten";

interface Props {
  consequence: Schemas["Consequence"] | undefined;
  /** Why the edit cannot be. */
  problem: Error | null;
  /** Why saving it failed; it can be tried again. */
  failure: Error | null;
  waiting: boolean;
  saving: boolean;
  along: Operation[];
  /** The object as somebody else left it meanwhile, if that conflicts with this edit. */
  theirs: string | null;
  verb: string;
  /** What the object is called: policy, share … */
  noun: string;
  onRemedy: (way: Schemas["Remedy"]) => void;
  onRebase: () => void;
  onSave: () => void;
  onDiscard: () => void;
}

/** What the edit would change, before it is saved. */
export function Strip(p: Props) {
  const c = p.consequence;
  const may = useMay("engineer");
  const able = c !== undefined && c.refused.length === 0 && c.inUse === null && p.problem === null;
  return (
    <section
      aria-label="Consequence"
      data-testid="effect"
      data-waiting={p.waiting}
      className="flex max-h-[46%] flex-none flex-col border-t-2 border-accent bg-sheet"
    >
      <div className="flex items-center gap-4 px-7 py-2.5">
        <p className="min-w-0 flex-1 font-serif text-[16px]" aria-live="polite">
          {p.problem ? <Impossible problem={p.problem} /> : c ? <Summary c={c} /> : "Computing the changes…"}
          {p.along.length > 0 && (
            <span className="block font-sans text-[13px] text-soft">
              Added with it: {p.along.map((o) => `${o.kind} ${nameIn(o)}`).join(", ")}
            </span>
          )}
        </p>
        <button className="rounded border border-line px-3 py-1 hover:border-accent" onClick={p.onDiscard}>
          Discard
        </button>
        {c && may && p.problem === null && !p.waiting && !p.saving && p.theirs === null && (
          <KeepAnyway consequence={c} onKeep={p.onSave} />
        )}
        {!may && <span className="flex-none text-[13px] text-soft">Only engineers can save this.</span>}
        <button
          className="rounded bg-accent px-4 py-1 font-semibold text-sheet disabled:opacity-40"
          disabled={!able || !may || p.waiting || p.saving || p.theirs !== null}
          onClick={p.onSave}
        >
          {p.saving ? "Saving…" : p.verb}
        </button>
      </div>
      {p.failure && (
        <p role="alert" className="px-7 pb-2 text-[13px] text-denied">
          {problemText(p.failure)}
        </p>
      )}
      {p.theirs !== null && (
        <Conflict noun={p.noun} theirs={p.theirs} onTake={p.onDiscard} onKeep={p.onRebase} />
      )}
      {!p.problem && c && (
        <div className="min-h-0 overflow-y-auto px-7 pb-3 text-[13px]">
          <ConsequenceView consequence={c} asks onRemedy={p.onRemedy} />
        </div>
      )}
    </section>
  );
}

/** Both versions of an object that two people changed; one of them has to be chosen. */
function Conflict({
  noun,
  theirs,
  onTake,
  onKeep,
}: {
  noun: string;
  theirs: string;
  onTake: () => void;
  onKeep: () => void;
}) {
  return (
    <div
      role="alert"
      className="mx-7 mb-2 flex items-start gap-4 rounded border border-denied px-3 py-2 text-[13px]"
    >
      <div className="min-w-0 flex-1">
        <p className="font-semibold">
          Someone else changed this {noun} in the meantime. The saved version is:
        </p>
        <p className="line-clamp-3 text-soft">{theirs}</p>
      </div>
      <button className="rounded border border-line px-2.5 py-0.5 hover:border-accent" onClick={onTake}>
        Use theirs
      </button>
      <button className="rounded border border-line px-2.5 py-0.5 hover:border-accent" onClick={onKeep}>
        Keep mine
      </button>
    </div>
  );
}

function Impossible({ problem }: { problem: Error }) {
  const fields = problem instanceof ApiProblem ? (problem.problem.problems ?? []) : [];
  if (fields.length > 0) {
    return <span>Not complete yet: {counted(fields.length, "field needs", "fields need")} correction.</span>;
  }
  return <span className="text-denied">{problem.message}</span>;
}

function Summary({ c }: { c: Schemas["Consequence"] }) {
  if (c.refused.length > 0)
    return <span>It cannot be applied with {c.refused.length === 1 ? "this fault" : "these faults"}.</span>;
  if (!c.effect) return null;
  const outcome = c.effect.cells.filter((x) => x.outcome).length;
  const hands = c.effect.cells.length - outcome;
  const broken = c.effect.expectations.filter((x) => x.after === "breaks").length;
  if (c.effect.cells.length === 0 && c.effect.flows.length === 0 && broken === 0) {
    return <span>No flows change.</span>;
  }
  if (outcome === 0 && broken === 0) {
    return <span>No outcome changes; {counted(hands, "cell is", "cells are")} decided by another rule.</span>;
  }
  return (
    <span>
      <strong>{counted(outcome, "cell changes", "cells change")}</strong> outcome
      {hands > 0 && <span className="text-soft">, {hands} more with the same outcome by another rule</span>}
      {broken > 0 && (
        <strong className="text-denied">
          , and {counted(broken, "expectation breaks", "expectations break")}
        </strong>
      )}
    </span>
  );
}
