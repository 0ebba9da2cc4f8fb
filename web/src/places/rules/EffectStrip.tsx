import { ArrowRight } from "lucide-react";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { Marks } from "../../parts/marks/RoadMark";
import { WhatChanges } from "../../parts/WhatChanges";
import { counted, nodeName, ruleWords, sideWords } from "../../parts/wording";

interface Props {
  effect: Schemas["Effect"] | undefined;
  /** Why the edit cannot be. */
  problem: Error | null;
  /** Why saving it failed; it can be tried again. */
  failure: Error | null;
  waiting: boolean;
  saving: boolean;
  /** The policy as somebody else left it meanwhile, if that conflicts with this edit. */
  theirs: Schemas["Policy"] | null;
  onRebase: () => void;
  onSave: () => void;
  onDiscard: () => void;
}

/** What the edit would change, before it is saved. */
export function EffectStrip({
  effect,
  problem,
  failure,
  waiting,
  saving,
  theirs,
  onRebase,
  onSave,
  onDiscard,
}: Props) {
  const bad = problem !== null;
  return (
    <section
      aria-label="Effect"
      data-testid="effect"
      data-waiting={waiting}
      className="flex max-h-[46%] flex-col border-t-2 border-accent bg-sheet"
    >
      <div className="flex items-center gap-4 px-7 py-2.5">
        <p className="min-w-0 flex-1 font-serif text-[16px]" aria-live="polite">
          {bad ? (
            <Refused problem={problem} />
          ) : effect ? (
            <Summary effect={effect} />
          ) : (
            "Computing the changes…"
          )}
        </p>
        <button className="rounded border border-line px-3 py-1 hover:border-accent" onClick={onDiscard}>
          Discard
        </button>
        <button
          className="rounded bg-accent px-4 py-1 font-semibold text-sheet disabled:opacity-40"
          disabled={bad || waiting || saving || !effect || theirs !== null}
          onClick={onSave}
        >
          {saving ? "Saving…" : "Save"}
        </button>
      </div>
      {failure && !theirs && (
        <p role="alert" className="px-7 pb-2 text-[13px] text-denied">
          {failure.message}
        </p>
      )}
      {theirs && <Conflict theirs={theirs} onTake={onDiscard} onKeep={onRebase} />}
      {!bad && effect && <Changes effect={effect} />}
    </section>
  );
}

/** Both versions of a policy that two people changed; one of them has to be chosen. */
function Conflict({
  theirs,
  onTake,
  onKeep,
}: {
  theirs: Schemas["Policy"];
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
          Someone else changed this policy in the meantime. The saved version is:
        </p>
        <p className="text-soft">
          {theirs.enabled === false ? "switched off · " : ""}
          {sideWords(theirs.from)} → {sideWords(theirs.to)}: {theirs.rules.map(ruleWords).join(", then ")}
        </p>
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

function Refused({ problem }: { problem: Error }) {
  const fields = problem instanceof ApiProblem ? (problem.problem.problems ?? []) : [];
  if (fields.length > 0) {
    return (
      <span>
        This cannot be saved yet: {counted(fields.length, "field needs", "fields need")} correction.
      </span>
    );
  }
  return <span className="text-denied">{problem.message}</span>;
}

function Summary({ effect }: { effect: Schemas["Effect"] }) {
  const outcome = effect.cells.filter((c) => c.outcome).length;
  const hands = effect.cells.length - outcome;
  const broken = effect.expectations.filter((x) => x.after === "breaks").length;
  if (effect.cells.length === 0) return <span>No flows change.</span>;
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

function Changes({ effect }: { effect: Schemas["Effect"] }) {
  return (
    <div className="@container min-h-0 overflow-y-auto px-7 pb-3 text-[13px]">
      <div className="grid gap-x-6 gap-y-3 @2xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <div>
          <WhatChanges asks {...effect} />
        </div>
        <ul aria-label="Cells that change">
          {effect.cells.map((c) => (
            <li key={`${c.row}>${c.col}`} className="flex items-center gap-2 border-t border-line py-1.5">
              <span className="min-w-0 flex-1 truncate">
                {nodeName(c.row)} → {nodeName(c.col)}
              </span>
              <Marks marks={c.before} size={11} />
              <ArrowRight size={12} className="flex-none text-soft" />
              <Marks marks={c.after} size={11} />
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}
