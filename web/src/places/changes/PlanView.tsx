import { useState } from "react";
import { ChevronDown, ChevronRight } from "lucide-react";
import { mostWrites } from "../../api/plans";
import type { Plan, PlanWrite, Wanted } from "../../api/plans";
import type { Schemas } from "../../api/client";
import { capital, counted, moment } from "../../parts/wording";

const steps: [PlanWrite["step"], string, string][] = [
  ["prepare", "Prepare", "What nothing uses yet."],
  ["tighten", "Tighten", "Lists pass only what passes before and after."],
  ["move", "Move", "Routes, wiring, placements and firewalls change, one at a time."],
  ["open", "Open", "Lists pass what they should from now on."],
  ["clean up", "Clean up", "What nothing uses any more goes."],
];

interface Props {
  plan: Plan;
  live: boolean;
  /** Which of its writes the plan has, where it can be asked for others. */
  wanted?: Wanted;
  onWanted?: (wanted: Wanted) => void;
}

/** What a plan writes, step by step, and what happens to flows meanwhile. */
export function PlanView({ plan, live, wanted, onWanted }: Props) {
  const [own, setOwn] = useState("");
  const only = wanted?.target ?? own;
  const setOnly = (target: string) =>
    wanted && onWanted ? onWanted({ most: mostWrites, target }) : setOwn(target);
  const writes = plan.writes.filter((w) => only === "" || w.target === only);
  return (
    <>
      <Meanwhile plan={plan} />
      <table className="mt-4 text-left text-[13px]">
        <thead className="text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-6 font-normal">Target</th>
            <th className="pr-6 text-right font-normal">Writes</th>
            <th className="font-normal">{live ? "State" : "Readable now"}</th>
          </tr>
        </thead>
        <tbody>
          {plan.targets.map((t) => (
            <tr key={t.name} className="border-b border-line/60">
              <td className="py-1 pr-6">
                <button
                  aria-pressed={only === t.name}
                  onClick={() => setOnly(only === t.name ? "" : t.name)}
                  className="text-accent hover:underline aria-pressed:font-semibold"
                >
                  {t.name}
                </button>
              </td>
              <td className="pr-6 text-right tabular-nums">{live ? `${t.done} of ${t.writes}` : t.writes}</td>
              <td className={t.state === "done" || t.state === "waiting" ? "text-soft" : "text-denied"}>
                {live ? targetWords(t) : t.why || "yes"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {plan.absent.length > 0 && (
        <p className="pt-2 text-blocked">
          Not connected, and not written: {plan.absent.join(", ")}. They would have to hold something else
          too.
        </p>
      )}
      {plan.refused.length > 0 && (
        <p className="pt-2 text-denied">
          The rules of {counted(plan.refused.length, "network")} do not fit, so{" "}
          {plan.refused.length === 1 ? "it is" : "they are"} left as they are:{" "}
          {plan.refused.slice(0, mostNamed).join(", ")}
          {plan.refused.length > mostNamed && ` and ${plan.refused.length - mostNamed} more`}.
        </p>
      )}
      {steps.map(([step, name, why]) => {
        const list = writes.filter((w) => w.step === step);
        if (list.length === 0) return null;
        return (
          <section key={step} aria-label={name} className="pt-4">
            <h2 className="flex items-baseline gap-3 border-b border-line pb-1">
              <span className="font-serif text-[17px] font-semibold">{name}</span>
              <span className="text-[13px] text-soft">{why}</span>
            </h2>
            {list.map((w) => (
              <Write key={w.number} w={w} live={live} />
            ))}
            <Rest
              plan={plan}
              step={step}
              shown={list.length}
              only={own}
              wanted={wanted}
              onWanted={onWanted}
            />
          </section>
        );
      })}
    </>
  );
}

/** How many networks are named. */
const mostNamed = 12;

/** How many writes a step has besides, and a way to them. */
function Rest({
  plan,
  step,
  shown,
  only,
  wanted,
  onWanted,
}: Pick<Props, "plan" | "wanted" | "onWanted"> & { step: string; shown: number; only: string }) {
  const more = (plan.steps.find((s) => s.step === step)?.writes ?? 0) - shown;
  if (more <= 0 || only !== "") return null;
  if (!wanted || !onWanted)
    return <p className="py-1 text-[13px] text-soft">and {counted(more, "more", "more")}</p>;
  return (
    <button
      className="py-1 text-[13px] text-accent hover:underline"
      onClick={() => onWanted({ ...wanted, most: wanted.most * 4 })}
    >
      Show more, of {more.toLocaleString("en")}
    </button>
  );
}

function targetWords(t: Schemas["PlanTarget"]): string {
  switch (t.state) {
    case "done":
      return "in force";
    case "waiting":
      return t.why || "waiting";
    case "retrying":
      return `trying again: ${t.why}`;
    case "refused":
      return `refused: ${t.why}`;
    case "changed":
      return t.why;
  }
}

/** What happens to flows while the plan is carried out. */
function Meanwhile({ plan }: { plan: Plan }) {
  if (plan.targets.length === 0)
    return <p className="pt-3">Nothing needs to be written: targets are up to date.</p>;
  return (
    <div className="pt-3">
      {plan.skipped ? (
        <p>There are too many classes of flows to check every intermediate state.</p>
      ) : plan.open.length === 0 ? (
        <p>
          <strong>No flow is opened temporarily</strong>
          {plan.packets > 0 ? (
            <span className="text-soft">
              {" "}
              · each class of flows that may change was checked in every intermediate state (
              {counted(plan.packets, "packet")})
            </span>
          ) : (
            <span className="text-soft"> · each write only opens, or only closes</span>
          )}
        </p>
      ) : (
        <div role="alert" className="border-l-[3px] border-denied bg-denied/8 px-3 py-2">
          <p className="font-semibold text-denied">
            {counted(plan.open.length, "kind of flow", "kinds of flow")} would be opened temporarily, allowed
            neither before nor after
          </p>
          <Flows flows={plan.open} />
        </div>
      )}
      {plan.staged && (
        <p className="text-soft">
          Test packets are sent after each step; if one differs from the prediction, the change is rolled
          back.
        </p>
      )}
      {plan.seconds > 0 && (
        <p className="text-soft">
          It should take about {duration(plan.seconds)}, if every target answers as it did lately.
        </p>
      )}
      {plan.ends.length > 0 && (
        <details className="pt-1">
          <summary className="cursor-pointer">
            Sessions of {counted(plan.ends.length, "kind of flow", "kinds of flow")} end: allowed before, and
            not after
          </summary>
          <Flows flows={plan.ends} />
        </details>
      )}
      {!plan.counted && (
        <p className="text-soft">There are too many classes of flows to list the sessions that end.</p>
      )}
      {plan.cut.length > 0 && (
        <details className="pt-1">
          <summary className="cursor-pointer">
            {counted(plan.cut.length, "kind of flow", "kinds of flow")} may be interrupted, though allowed
            before and after
          </summary>
          <Flows flows={plan.cut} />
        </details>
      )}
    </div>
  );
}

function Flows({ flows }: { flows: Schemas["PlanFlow"][] }) {
  return (
    <ul className="pt-1 text-[13px]">
      {flows.slice(0, 20).map((f, i) => (
        <li key={i} className="py-0.5">
          {f.witness.source} to {f.witness.destination} on {f.witness.on}
          <span className="text-soft">
            {" "}
            · before: {f.before}; after {counted(f.after, "write")}: {f.between}; at the end: {f.then}
          </span>
        </li>
      ))}
      {flows.length > 20 && <li className="text-soft">and {flows.length - 20} more</li>}
    </ul>
  );
}

const shown = 12;

function Write({ w, live }: { w: PlanWrite; live: boolean }) {
  const [open, setOpen] = useState(false);
  const { waits } = w;
  const many = w.added.length + w.removed.length > 4;
  const all = open || !many;
  return (
    <div className="border-b border-line/60 py-1.5" data-testid={`write-${w.number}`} data-state={w.state}>
      <div className="flex items-baseline gap-3">
        <span className="w-6 flex-none text-right text-[13px] text-soft tabular-nums">{w.number + 1}</span>
        <span className="min-w-0 flex-1">
          {capital(w.title)}
          <span className="text-[13px] text-soft"> · {w.target}</span>
        </span>
        <span className="flex-none text-[13px] text-soft tabular-nums">
          {[
            w.added.length > 0 && `+${w.added.length}`,
            w.removed.length > 0 && `−${w.removed.length}`,
            w.kept > 0 && `${w.kept} kept`,
            w.limit > 0 && `holds ${w.holds} of ${w.limit}`,
          ]
            .filter(Boolean)
            .join(" · ")}
        </span>
        <span
          className={`w-56 flex-none text-right text-[13px] ${w.state === "done" ? "text-allowed" : w.state === "waiting" ? "text-soft" : "text-denied"}`}
        >
          {live ? stateOf(w, waits) : waits.length > 0 && `after ${numbers(waits)}`}
        </span>
      </div>
      {w.narrow && (
        <p className="pl-9 text-[13px] text-blocked">
          What passes before and after does not fit into this list, so it passes less until it is opened.
        </p>
      )}
      {w.by.length > 0 && (
        <p className="pl-9 text-[13px] text-blocked">
          It removes rules that were written by {w.by.join(", ")}.
        </p>
      )}
      {all && (
        <ul className="pl-9 text-[13px]">
          {w.removed.slice(0, shown * 10).map((l, i) => (
            <li key={`-${i}`} className="text-denied">
              <Line sign="−" text={l} />
            </li>
          ))}
          {w.added.slice(0, shown * 10).map((l, i) => (
            <li key={`+${i}`} className="text-allowed">
              <Line sign="+" text={l} />
            </li>
          ))}
        </ul>
      )}
      {many && (
        <button
          aria-expanded={open}
          className="flex items-center gap-1 pl-8 text-[13px] text-accent hover:underline"
          onClick={() => setOpen(!open)}
        >
          {open ? <ChevronDown size={13} /> : <ChevronRight size={13} />}
          {open ? "Hide lines" : "Show lines"}
        </button>
      )}
    </div>
  );
}

function Line({ sign, text }: { sign: string; text: string }) {
  const [rule, because] = text.split("  # ");
  return (
    <span className="flex gap-2">
      <span aria-hidden>{sign}</span>
      <span className="min-w-0 break-words">
        <span className="text-ink">{rule}</span>
        {because && <span className="text-soft"> · {because}</span>}
      </span>
    </span>
  );
}

const numbers = (list: number[]) =>
  list.length > 3 ? counted(list.length, "other write") : list.map((n) => n + 1).join(", ");

function stateOf(w: PlanWrite, waits: number[]): string {
  switch (w.state) {
    case "done":
      return `in force${w.at ? ` since ${moment(w.at)}` : ""}`;
    case "waiting":
      return waits.length > 0 ? `after ${numbers(waits)}` : "next";
    case "retrying":
      return `trying again (${w.tries}): ${w.why}`;
    case "refused":
      return `refused: ${w.why}`;
    case "changed":
      return w.why;
  }
}

/** A time to wait, in words. */
export function duration(seconds: number): string {
  if (seconds < 1.5) return "a second";
  if (seconds < 90) return `${Math.round(seconds)} seconds`;
  return `${Math.round(seconds / 60)} minutes`;
}
