import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation } from "react-router";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { completionQuery, decidingQuery } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { problemText } from "../../parts/ConsequenceView";
import { Combobox } from "../../parts/Combobox";
import { RoadMark } from "../../parts/marks/RoadMark";
import { Sentence } from "../../parts/Sentence";
import { placeOf } from "../../parts/ThingLink";
import { capital, counted, reasons, serviceWords } from "../../parts/wording";
import { Choose } from "./Choose";

const fields = [
  ["from", "source", "From", "anything"],
  ["to", "destination", "To", "anything"],
  ["on", "service", "On", "any service"],
] as const;

const outcomes = ["allowed", "inspected", "blocked", "denied", "unrouted"] as const;
const everyOutcome = "any outcome";

/** Rules found by what they do: what decides the flows between two ends. */
export function FindByEffect() {
  const { params, change } = useUrlState();
  const get = (key: string) => params.get(key) ?? "";
  const outcome = outcomes.find((o) => o === get("outcome"));
  const question = { from: get("source"), to: get("destination"), on: get("service") };
  const narrowed = Object.values(question).some((v) => v !== "") || outcome !== undefined;
  const found = useQuery({ ...decidingQuery(question, outcome), enabled: narrowed });
  const problem = found.error instanceof ApiProblem ? found.error : null;
  return (
    <section aria-label="Find by effect" className="min-w-0 flex-1 overflow-y-auto p-7">
      <h1 className="font-serif text-[22px] font-semibold">Find rules by what they do</h1>
      <p className="mt-1 max-w-prose text-soft">
        Every policy, guardrail, share, rulebook and default that decides a flow between two ends. What you
        leave empty stands for everything.
      </p>
      <div className="mt-4 flex flex-wrap items-end gap-3">
        {fields.map(([field, key, label, everything]) => (
          <EndField
            key={`${key} ${get(key)}`}
            field={field}
            label={label}
            value={get(key)}
            placeholder={everything}
            invalid={problem?.at(field) !== undefined}
            onCommit={(text) => change({ [key]: text.trim() || null }, true)}
          />
        ))}
        <div className="flex flex-col gap-0.5">
          <span className="text-xs text-soft">Outcome</span>
          <Choose
            label="Outcome"
            small
            value={outcome ?? everyOutcome}
            values={[everyOutcome, ...outcomes]}
            onChange={(v) => change({ outcome: v === everyOutcome ? null : v }, true)}
          />
        </div>
      </div>
      {found.error && (
        <p role="alert" className="mt-3 text-denied">
          {problemText(found.error)}
        </p>
      )}
      {!narrowed && <p className="mt-5 text-soft">Fill in at least one field.</p>}
      {narrowed && found.isPending && !found.error && <p className="mt-5 text-soft">Computing…</p>}
      {narrowed && found.data && <Deciders found={found.data} />}
    </section>
  );
}

interface EndFieldProps {
  field: "from" | "to" | "on";
  label: string;
  value: string;
  placeholder: string;
  invalid: boolean;
  onCommit: (text: string) => void;
}

function EndField({ field, label, value, placeholder, invalid, onCommit }: EndFieldProps) {
  const [typed, setTyped] = useState(value);
  const proposals = useQuery({ ...completionQuery(field, typed), enabled: typed !== "" });
  return (
    <span
      className="flex w-52 flex-col gap-0.5"
      onBlur={() => {
        if (typed.trim() !== value) onCommit(typed);
      }}
    >
      <span className="text-xs text-soft">{label}</span>
      <Combobox
        id={`effect-${field}`}
        label={label}
        value={typed}
        placeholder={placeholder}
        choices={typed === "" ? [] : (proposals.data ?? [])}
        invalid={invalid}
        className="rounded border border-line bg-sheet px-2 py-0.5 focus-within:border-accent"
        onType={setTyped}
        onCommit={onCommit}
      />
    </span>
  );
}

function Deciders({ found }: { found: Schemas["Deciding"] }) {
  if (found.deciders.length === 0) return <p className="mt-5 text-soft">No flow fits.</p>;
  return (
    <>
      <p className="mt-5 text-soft">
        {counted(found.deciders.length + found.hidden, "rule object or default", "rule objects and defaults")}
        {found.hidden > 0 && `; the first ${found.deciders.length} are shown`}
      </p>
      <ul aria-label="What decides" className="mt-2 border-t border-line">
        {found.deciders.map((d) => (
          <Decider key={`${d.thing.kind} ${d.thing.name} ${d.reason} ${d.outcome}`} d={d} />
        ))}
      </ul>
    </>
  );
}

function Decider({ d }: { d: Schemas["Decider"] }) {
  const { search } = useLocation();
  const { change } = useUrlState();
  const kind = d.reason === "guardrail" ? "guardrail" : d.thing.kind;
  return (
    <li className="grid grid-cols-[28px_minmax(0,1fr)_minmax(0,1fr)_auto] items-start gap-x-4 border-b border-line/60 py-2">
      <span className="pt-1">
        <RoadMark mark={{ outcome: d.outcome, contested: false }} size={14} />
      </span>
      <div className="min-w-0">
        <p>
          {d.thing.kind === "" ? (
            capital(reasons[d.reason])
          ) : (
            <>
              <span className="text-soft">{d.reason === "default" ? "default of segment" : kind} </span>
              <Link className="font-semibold hover:text-accent hover:underline" to={placeOf(d.thing, search)}>
                {d.thing.name}
              </Link>
            </>
          )}
        </p>
        <p className="font-mono text-[13px] break-words text-soft">{serviceWords(d.services)}</p>
      </div>
      <div className="min-w-0 text-[13px]">
        <p>
          {d.between.join(", ")}
          {d.more > 0 && ` and ${d.more} more`}
        </p>
        <p className="text-soft">
          For example {d.witness.source} → {d.witness.destination}: <Sentence tokens={d.sentence} />
        </p>
      </div>
      <button
        className="rounded border border-line px-2 py-0.5 text-[13px] hover:border-accent hover:text-accent"
        onClick={() =>
          change({ from: d.witness.from, to: d.witness.to, on: d.witness.on, row: null, col: null, at: null })
        }
      >
        Show path
      </button>
    </li>
  );
}
