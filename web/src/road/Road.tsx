import type { Schemas } from "../api/client";
import { RoadMark } from "../parts/marks/RoadMark";
import { Sentence } from "../parts/Sentence";
import { stepsOf } from "./steps";
import type { Branch, Step } from "./steps";

/** How many of an end's groups are listed before the rest is counted. */
const groupsShown = 8;

/** The road of one flow: taken solid, not taken faint, each fork with its reason. */
export function Road({ trace, sentence }: { trace: Schemas["Trace"]; sentence?: Schemas["Token"][] }) {
  const steps = stepsOf(trace);
  const hue = `var(--${trace.verdict.outcome})`;
  const service = `${trace.flow.protocol}${trace.flow.dport > 0 || /^(tcp|udp|icmp)/.test(trace.flow.protocol) ? `/${trace.flow.dport}` : ""}`;
  return (
    <section aria-label="Road" data-testid="road">
      <header className="border-b border-line px-5 py-2.5">
        {sentence && (
          <p className="flex items-start gap-3 pb-1 font-serif text-[16px] leading-snug">
            <span className="pt-0.5">
              <RoadMark
                mark={{ outcome: trace.verdict.outcome, contested: trace.verdict.contested }}
                size={18}
              />
            </span>
            <span>
              <Sentence tokens={sentence} />
            </span>
          </p>
        )}
        <p className="font-mono text-xs text-soft">
          {trace.flow.source} → {trace.flow.destination} {service}
          {trace.flow.sport > 0 && ` from port ${trace.flow.sport}`}
        </p>
      </header>
      <ol className="px-5 pt-3 pb-5">
        {steps.map((s, i) => (
          <StepRow key={i} step={s} hue={hue} first={i === 0} last={i === steps.length - 1} />
        ))}
      </ol>
    </section>
  );
}

function StepRow({ step, hue, first, last }: { step: Step; hue: string; first: boolean; last: boolean }) {
  const beyond = step.state === "beyond";
  const forks = step.branches ?? [];
  const taken = forks.findIndex((b) => b.taken);
  return (
    <li data-state={step.state}>
      <div className="relative pl-11">
        <Rail
          step={step}
          hue={hue}
          first={first}
          last={last && forks.length === 0}
          forks={forks.length > 0}
        />
        <div
          className={`${forks.length > 0 ? "pb-1" : "pb-3.5"} ${beyond ? "[&_*]:font-normal [&_*]:text-soft" : ""}`}
        >
          <p className="leading-5">
            <span className="mr-2 text-xs text-soft">{step.title}</span>
            <span className="font-semibold">
              <Sentence tokens={step.head} />
            </span>
          </p>
          {step.lines.map((line) => (
            <p key={line} className="text-[13px] leading-5 text-soft">
              {line}
            </p>
          ))}
          {step.groups && step.groups.length > 0 && <Groups groups={step.groups} />}
        </div>
      </div>
      {forks.map((b, i) => (
        <BranchRow
          key={i}
          branch={b}
          hue={hue}
          last={i === forks.length - 1}
          line={beyond || (step.state === "ends" && i >= taken) ? "dotted" : "solid"}
          ends={step.state === "ends"}
          faint={beyond}
        />
      ))}
    </li>
  );
}

/** How a stretch of the road is drawn: where the flow goes, or where it never comes. */
function stretch(gone: boolean, hue: string) {
  return gone
    ? { className: "absolute left-3.5 border-l-[3px] border-dotted", style: { borderColor: "var(--line)" } }
    : { className: "absolute left-3.5 border-l-[3px]", style: { borderColor: hue } };
}

interface RailProps {
  step: Step;
  hue: string;
  first: boolean;
  last: boolean;
  forks: boolean;
}

/** The line beside a step, with what happens to it here. */
function Rail({ step, hue, first, last, forks }: RailProps) {
  const gone = step.state === "beyond";
  const above = stretch(gone, hue);
  const below = stretch(gone || (step.state === "ends" && !forks), hue);
  return (
    <span aria-hidden className="absolute inset-y-0 left-0 w-8">
      {!first && <span className={`${above.className} top-0 h-[10px]`} style={above.style} />}
      {!last && <span className={`${below.className} top-[10px] bottom-0`} style={below.style} />}
      <Stop
        step={step}
        hue={gone ? "var(--line)" : hue}
        end={step.state === "ends" && !forks ? (hue === "var(--unrouted)" ? "breaks" : "bar") : null}
      />
    </span>
  );
}

function Stop({ step, hue, end }: { step: Step; hue: string; end: "bar" | "breaks" | null }) {
  const ring = step.kind === "gate";
  const open = ring || step.kind === "end";
  const r = ring ? 8 : open ? 5 : 3.6;
  return (
    <svg
      width="32"
      height="24"
      viewBox="0 0 32 24"
      className="absolute -top-[2px] left-0 overflow-visible"
      fill="none"
      stroke={hue}
      strokeWidth="3"
      strokeLinecap="round"
    >
      <circle cx="15.5" cy="12" r={r} fill={open ? "var(--sheet)" : hue} />
      {end === "bar" && <path d={`M6 ${ring ? 22.5 : 18}H25`} />}
      {end === "breaks" && <path d="M15.5 21.5h.01M15.5 28h.01M15.5 34.5h.01" strokeWidth="3.4" />}
    </svg>
  );
}

interface BranchProps {
  branch: Branch;
  hue: string;
  last: boolean;
  line: "solid" | "dotted";
  ends: boolean;
  faint: boolean;
}

/** One way at a fork: taken solid, not taken faint; the one that ends the flow has a bar. */
function BranchRow({ branch, hue, last, line, ends, faint }: BranchProps) {
  const rail = stretch(line === "dotted", hue);
  const color = branch.taken && !faint ? hue : "var(--line)";
  const bar = !branch.taken || ends;
  return (
    <div
      className={`relative pl-11 text-[13px] leading-5 ${branch.taken && !faint ? "" : "text-soft"} ${faint ? "[&_*]:font-normal [&_*]:text-soft" : ""}`}
      data-taken={branch.taken}
    >
      <span aria-hidden className={`${rail.className} inset-y-0`} style={rail.style} />
      <svg
        aria-hidden
        width="32"
        height="20"
        viewBox="0 0 32 20"
        className="absolute top-0 left-[14px]"
        fill="none"
        stroke={color}
        strokeWidth={branch.taken ? 3 : 2}
        strokeLinecap="round"
      >
        <path d="M1.5 0C1.5 8 7 10 14 10H22" />
        {bar && <path d="M22 5V15" />}
      </svg>
      <div className={last ? "pb-3.5" : "pb-1.5"}>
        <span className={branch.taken ? "font-semibold text-ink" : ""}>
          <Sentence tokens={branch.head} />
        </span>
        <span className="block">{branch.text}</span>
      </div>
    </div>
  );
}

function Groups({ groups }: { groups: Schemas["End"]["groups"] }) {
  const shown = groups.slice(0, groupsShown);
  return (
    <p className="mt-1 flex flex-wrap gap-1">
      {shown.map((g) => (
        <span
          key={g.group}
          title={`${g.ground.by} ${g.ground.value}${g.within ? `, nested in ${g.within}` : ""}`}
          className="rounded-sm bg-wash px-1.5 text-xs leading-5"
        >
          {g.group}
        </span>
      ))}
      {groups.length > shown.length && (
        <span className="text-xs leading-5 text-soft">and {groups.length - shown.length} more</span>
      )}
    </p>
  );
}
