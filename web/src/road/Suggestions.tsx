import { ChevronDown, ChevronRight } from "lucide-react";
import { useEffect, useState } from "react";
import type { Schemas } from "../api/client";
import { fixes, suggestions } from "../api/suggestions";
import type { Asked, Finder, Wanted } from "../api/suggestions";
import { Consequence } from "../parts/Consequence";
import { RoadMark } from "../parts/marks/RoadMark";
import { Button } from "../parts/fields";
import { counted } from "../parts/wording";
import { useAdd } from "../places/rules/AddMenu";
import { expectationOfFlow } from "./expect";

interface Props {
  asked: Asked;
  trace: Schemas["Trace"];
}

const wanted: [Wanted, string][] = [
  ["allowed", "Allow it"],
  ["inspected", "Inspect it"],
  ["denied", "Deny it"],
];

/** The smallest edits that would give the flow another outcome, each tried, those that change least besides first. */
export function Suggestions({ asked, trace }: Props) {
  const [want, setWant] = useState<Wanted | null>(null);
  const outcome = trace.verdict.outcome;
  return (
    <section aria-label="Change the outcome" className="border-t border-line px-5 py-4">
      <h2 className="font-serif text-[16px] font-semibold">Change the outcome</h2>
      <div className="flex gap-2 pt-2">
        {wanted
          .filter(([w]) => w !== outcome)
          .map(([w, words]) => (
            <Button key={w} aria-pressed={want === w} main={want === w} onClick={() => setWant(w)}>
              {words}
            </Button>
          ))}
        <ExpectButton expectation={() => expectationOfFlow(trace, asked)} />
      </div>
      {want && (
        <List
          key={`${JSON.stringify(asked)} ${want}`}
          finder={suggestions(asked, want)}
          none={`No edit was found that makes this flow ${want}.`}
          onDone={() => setWant(null)}
        />
      )}
    </section>
  );
}

/** The edits that would remove a finding, each tried, those that change least first. */
export function Fixes({ finding }: { finding: string }) {
  return (
    <section aria-label="Fixes" className="border-t border-line px-5 py-4">
      <h2 className="font-serif text-[16px] font-semibold">Fixes</h2>
      <List
        key={finding}
        finder={fixes(finding)}
        none="No edit was found that removes this finding."
        onDone={() => undefined}
      />
    </section>
  );
}

/** Begins an expectation, which is saved where it is written. */
export function ExpectButton({
  expectation,
}: {
  expectation: () => { name: string } & Record<string, unknown>;
}) {
  const add = useAdd();
  return <Button onClick={() => void add("expectation", expectation())}>Expect this…</Button>;
}

interface ListProps {
  finder: Finder;
  /** What is said where nothing is found. */
  none: string;
  onDone: () => void;
}

function List({ finder, none, onDone }: ListProps) {
  const [list, setList] = useState<Schemas["Suggestion"][]>([]);
  const [state, setState] = useState<"running" | "done" | Error>("running");
  const [open, setOpen] = useState<string | null>(null);
  const [whole, setWhole] = useState(false);
  const worth = list.filter((s) => !list.some((o) => isBetter(o, s)));
  const shown = whole ? list : worth;
  useEffect(() => {
    const stop = new AbortController();
    finder(stop.signal, (s) => setList((old) => sorted([...old, s]))).then(
      () => setState("done"),
      (error: Error) => {
        if (!stop.signal.aborted) setState(error);
      },
    );
    return () => stop.abort();
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the list is keyed by what is asked
  }, []);
  return (
    <>
      {state instanceof Error && (
        <p role="alert" className="pt-2 text-denied">
          {state.message}
        </p>
      )}
      {state === "running" && list.length === 0 && <p className="pt-2 text-soft">Trying edits…</p>}
      {state === "done" && list.length === 0 && <p className="pt-2 text-soft">{none}</p>}
      <ol aria-label="Suggestions" aria-busy={state === "running"} className="pt-1">
        {shown.map((s) => {
          const key = s.words.join("\n");
          return (
            <li key={key} className="border-b border-line py-2 text-[13px] last:border-0">
              <button
                aria-expanded={open === key}
                className="flex w-full items-start gap-2 text-left hover:text-accent"
                onClick={() => setOpen(open === key ? null : key)}
              >
                {open === key ? (
                  <ChevronDown size={14} className="mt-0.5 flex-none text-soft" />
                ) : (
                  <ChevronRight size={14} className="mt-0.5 flex-none text-soft" />
                )}
                <span className="min-w-0 flex-1">
                  {s.words.map((w) => (
                    <span key={w} className="block">
                      {w}
                    </span>
                  ))}
                  <SideEffects suggestion={s} />
                </span>
                {s.mark && <RoadMark mark={s.mark} />}
              </button>
              {open === key && (
                <div className="pl-6">
                  <Consequence edit={{ operations: s.operations }} verb="Apply" onDone={onDone} />
                </div>
              )}
            </li>
          );
        })}
      </ol>
      {!whole && list.length > worth.length && (
        <button className="pt-1 text-[13px] text-accent hover:underline" onClick={() => setWhole(true)}>
          Show {counted(list.length - worth.length, "more", "more")} with larger side effects
        </button>
      )}
    </>
  );
}

function SideEffects({ suggestion: s }: { suggestion: Schemas["Suggestion"] }) {
  const broken = s.expectations.filter((x) => x.after === "breaks");
  const other = s.mark ? " other" : ""; // than the flow that was asked about
  return (
    <span className="block text-soft">
      {s.others === "0"
        ? `no${other} flows change`
        : `${s.others || "over a million million"}${other} ${s.others === "1" ? "pair of addresses changes" : "pairs of addresses change"} outcome`}
      {s.left.length > 0 && `; the finding stays for ${stays(s.left)}`}
      {s.brings > 0 && (
        <span className="text-denied">; brings {counted(s.brings, "other finding", "other findings")}</span>
      )}
      {broken.length > 0 && (
        <span className="text-denied">
          ; {counted(broken.length, "expectation breaks", "expectations break")}:{" "}
          {broken.map((x) => x.name).join(", ")}
        </span>
      )}
    </span>
  );
}

/** The first of what a finding stays for, and how many there are beside those. */
function stays(left: Schemas["Thing"][]): string {
  const most = 4;
  if (left[0]?.kind === "policy") return "other flows"; // of a guardrail
  const names = left.map((x) => x.name);
  return names.slice(0, most).join(", ") + (names.length > most ? ` and ${names.length - most} more` : "");
}

/** Whether one suggestion changes no more than another in any way, and less in some. */
function isBetter(a: Schemas["Suggestion"], b: Schemas["Suggestion"]): boolean {
  const d = a.rank.map((x, i) => x - (b.rank[i] ?? 0));
  return d.every((x) => x <= 0) && d.some((x) => x < 0);
}

/** Suggestions by their rank, item by item. */
function sorted(list: Schemas["Suggestion"][]): Schemas["Suggestion"][] {
  return list.sort((a, b) => {
    for (let i = 0; i < a.rank.length; i++) {
      const d = (a.rank[i] ?? 0) - (b.rank[i] ?? 0);
      if (d !== 0) return d;
    }
    return 0;
  });
}
