import type { Schemas } from "../api/client";

type Trace = Schemas["Trace"];
type MatchingRule = Schemas["MatchingRule"];
type Path = Schemas["Path"];
type Token = Schemas["Token"];

/** One way that the road could have gone at a fork. */
export interface Branch {
  taken: boolean;
  head: Token[];
  text: string;
}

/** One step of a road, from top to bottom. */
export interface Step {
  kind: "end" | "look" | "way" | "fork" | "gate" | "back";
  title: string;
  head: Token[];
  lines: string[];
  groups?: Schemas["End"]["groups"];
  branches?: Branch[];
  /** reached: the flow comes here; ends: it ends here; beyond: it never comes here. */
  state: "reached" | "ends" | "beyond";
}

/** Turns a trace into the steps that are drawn. */
export function stepsOf(t: Trace): Step[] {
  const steps = [source(t), look(t)];
  if (t.verdict.reason !== "unknown") {
    steps.push(way(t));
    if (t.decides) steps.push(fork(t));
    if (t.guardrails.length > 0) steps.push(guardrails(t));
    steps.push(...t.pools.map(gate));
    steps.push(destination(t), back(t));
  }
  return endAt(steps, t);
}

/** The step at which the flow ends, or -1 if it is delivered and answered. */
function endOf(steps: Step[], t: Trace): number {
  const find = (title: string) => steps.findIndex((s) => s.title === title);
  switch (t.verdict.reason) {
    case "unknown":
      return find("route lookup");
    case "no-path":
      return find("forward path");
    case "guardrail":
      return t.verdict.outcome === "denied" ? find("guardrails") : -1;
    case "rulebook":
    case "no-firewall":
      return steps.findLastIndex((s) => s.kind === "gate");
    case "no-way-back":
    case "asymmetric":
      return find("return path");
  }
  return t.verdict.outcome === "denied" ? steps.findIndex((s) => s.kind === "fork") : -1;
}

function endAt(steps: Step[], t: Trace): Step[] {
  const end = endOf(steps, t);
  if (end < 0) return steps;
  return steps.map((s, i) => ({ ...s, state: i < end ? "reached" : i === end ? "ends" : "beyond" }));
}

const plain = (text: string): Token => ({ text });

function who(e: Schemas["End"]): Token[] {
  const address = [e.address, e.inside && `inside ${e.inside}`, e.seenAs && `translated to ${e.seenAs}`]
    .filter(Boolean)
    .join(", ");
  if (e.workload) return [{ text: e.workload, kind: "workload" }, plain(`  ${address}`)];
  return [plain(address)];
}

function where(e: Schemas["End"]): string[] {
  if (!e.internal) return [e.exit ? `on the internet, reached through ${e.exit}` : "on the internet"];
  const subnet = e.subnet
    ? `subnet ${e.subnet} (${e.prefix})`
    : `prefix ${e.prefix} advertised by its attachment`;
  return [`segment ${e.segment} · network ${e.network} · ${subnet}`];
}

function source(t: Trace): Step {
  const lives = t.source.internal || t.flow.segment === "internet";
  return {
    kind: "end",
    title: "from",
    head: who(t.source),
    lines: lives ? where(t.source) : [`not in segment ${t.flow.segment}`],
    groups: t.source.groups,
    state: "reached",
  };
}

function destination(t: Trace): Step {
  return {
    kind: "end",
    title: "to",
    head: who(t.destination),
    lines: where(t.destination),
    groups: t.destination.groups,
    state: "reached",
  };
}

function look(t: Trace): Step {
  const found: Record<Trace["lookup"], string> = {
    own: `address of segment ${t.destination.segment}`,
    shared: `from segment ${t.destination.segment}, through ${t.sharedBy.length > 1 ? "shares" : "share"} ${t.sharedBy.join(", ")}`,
    internet: "no address of the segment, and public: the internet",
    published: t.publication ? `published as ${t.publication}` : "no publication",
    unknown: "nothing has it",
  };
  return {
    kind: "look",
    title: "route lookup",
    head: [plain(t.flow.destination)],
    lines: [found[t.lookup]],
    state: "reached",
  };
}

const kinds: Record<Path["kind"], string> = {
  none: "no path",
  local: "inside the network, not through a hub",
  peered: "over the peering, not through a hub",
  bypass: "through the network's own internet gateway, bypassing every hub",
  hub: "",
};

/** The hubs of a path as one line. */
function hops(p: Path): string {
  const chain = p.hops.map((h, i) => (i === 0 ? h.hub : ` —${h.cost}— ${h.hub}`)).join("");
  return p.exit && !p.leave ? `${chain} → ${p.exit}` : chain;
}

function pathLines(p: Path): string[] {
  const lines: string[] = [];
  if (p.entry) {
    lines.push(`route ${p.entry.prefix} via ${p.entry.via}${p.entry.explicit ? "" : ", implicit"}`);
  }
  if (p.why) lines.push(p.why);
  if (p.kind === "hub" && p.enter && p.hops.length > 0) {
    lines.push(
      `enters from ${p.enter.network}${p.leave ? `, leaves to ${p.leave.network}` : ""}, cost ${p.cost}`,
    );
  } else if (p.kind === "hub" && p.leave) {
    lines.push(`enters at ${p.exit}, leaves to ${p.leave.network}, cost ${p.cost}`);
  }
  return lines;
}

/** How many lost candidates of a way are drawn. */
const lostShown = 4;

/** The ways that were not taken, faint, with the reason. */
function lost(p: Path): Branch[] {
  return p.lost.slice(0, lostShown).map((l) => ({
    taken: false,
    head: [plain(`${l.what} ${l.name}`)],
    text: l.why,
  }));
}

function uncounted(p: Path): string[] {
  const more = p.lost.length - lostShown;
  return more > 0 ? [`${p.lost.length} rejected alternatives, ${lostShown} of them shown`] : [];
}

function pathHead(p: Path): string {
  if (p.kind !== "hub") return kinds[p.kind];
  return p.hops.length > 0 ? hops(p) : `by ${p.enter?.hub ?? "a hub"}`;
}

function way(t: Trace): Step {
  return {
    kind: "way",
    title: "forward path",
    head: [plain(pathHead(t.path))],
    lines: [...pathLines(t.path), ...uncounted(t.path)],
    branches: lost(t.path),
    state: "reached",
  };
}

function back(t: Trace): Step {
  const step = { kind: "back" as const, title: "return path", state: "reached" as const };
  if (!t.back) return { ...step, head: [plain("through the internet")], lines: [] };
  const entry = t.back.entry
    ? [`route ${t.back.entry.prefix} via ${t.back.entry.via}${t.back.entry.explicit ? "" : ", implicit"}`]
    : [];
  const why = t.back.why ? [t.back.why] : [];
  return { ...step, head: [plain(pathHead(t.back))], lines: [...entry, ...why], branches: lost(t.back) };
}

function ruleText(v: MatchingRule): string {
  const by = v.pool ? ` by ${v.pool}` : "";
  return `rule ${v.rule}: ${v.action} ${v.services.join(", ")}${by}`;
}

function branch(v: MatchingRule): Branch {
  const head: Token[] = [
    { text: v.name, kind: v.kind === "share" ? "share" : "policy" },
    plain(`  ${v.from} → ${v.to}`),
  ];
  switch (v.standing) {
    case "wins":
      return { taken: true, head, text: ruleText(v) };
    case "agrees":
      return { taken: false, head, text: `${ruleText(v)} — same action, not deciding` };
    case "milder":
      return { taken: false, head, text: `${ruleText(v)} — overridden by a stricter policy` };
    case "overridden":
      return { taken: false, head, text: `${ruleText(v)} — less specific, overridden by ${v.over}` };
    case "silent":
      return { taken: false, head, text: "no rule includes this service" };
  }
}

function fork(t: Trace): Step {
  const branches = t.rules.map(branch);
  const words = {
    segment: `the default of segment ${t.source.segment || t.destination.segment}`,
    internet: "the internet is closed by default",
    "no-share": `no share permits ${t.source.segment} to reach it`,
    "": "",
  };
  branches.push({
    taken: t.default.holds,
    head: [plain(t.default.action || "deny")],
    text: words[t.default.why] + (t.default.holds ? "" : " — not reached"),
  });
  const speaking = t.rules.filter((v) => v.standing !== "silent").length;
  const noun = t.decides === "shares" ? "share" : "policy";
  const many = t.decides === "shares" ? "shares" : "policies";
  const head =
    speaking === 0 ? `no matching ${noun}` : `${speaking} matching ${speaking === 1 ? noun : many}`;
  const lines = [];
  if (t.verdict.contested)
    lines.push("Contested: neither overrides the other, so the stricter action applies.");
  if (t.verdict.reason === "unenforced") lines.push("Nothing on this path enforces it: the flow passes.");
  if (t.verdict.reason === "uninspectable") lines.push("No firewall is on this path: the flow is denied.");
  return { kind: "fork", title: t.decides, head: [plain(head)], lines, branches, state: "reached" };
}

function guardrails(t: Trace): Step {
  const strict = t.guardrails.some((v) => v.standing === "wins");
  return {
    kind: "fork",
    title: "guardrails",
    head: [plain(strict ? "stricter, so it applies" : "nothing stricter")],
    lines: [],
    branches: t.guardrails.map(branch),
    state: "reached",
  };
}

function gate(p: Schemas["PoolStep"]): Step {
  const lines: string[] = [];
  switch (p.state) {
    case "no-firewall":
      lines.push("no reachable healthy firewall; the pool fails closed");
      break;
    case "failed-open":
      lines.push("no reachable healthy firewall; the pool fails open and is bypassed");
      break;
    default:
      lines.push(
        `${p.onWay ? "the first on the path with a healthy firewall" : "the nearest; none on the path itself"}: ${p.firewalls.join(", ")}`,
      );
      if (p.rulebook) {
        lines.push(
          p.rule > 0
            ? `rulebook ${p.rulebook} rule ${p.rule}: ${p.action}`
            : `rulebook ${p.rulebook}: no rule permits it`,
        );
      }
  }
  const head: Token[] = [{ text: p.pool, kind: "pool" }];
  if (p.hub) head.push(plain(`  at ${p.hub}`));
  return {
    kind: "gate",
    title: p.state === "blocked" ? "blocks" : "firewalls",
    head,
    lines,
    state: "reached",
  };
}
