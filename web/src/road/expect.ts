import type { Schemas } from "../api/client";
import type { Asked } from "../api/suggestions";

type Expectation = Schemas["Expectation"];

/** The outcome that an expectation can state, for one that a flow has. */
const stated: Record<Schemas["Outcome"], Expectation["expect"]> = {
  allowed: "allowed",
  inspected: "inspected",
  blocked: "denied",
  denied: "denied",
  unrouted: "denied",
};

/** The end of an expectation for an end of a flow: its segment, and the group that it is in. */
function endOf(end: Schemas["End"]): Expectation["from"] {
  if (!end.internal) return "internet";
  const [group] = end.groups;
  return { segment: end.segment, groups: group ? [group.group] : "any" };
}

/** The expectation that a flow keeps the outcome that it has. */
export function expectationOfFlow(
  trace: Schemas["Trace"],
  asked: Asked,
): Record<string, unknown> & { name: string } {
  const [from, to] = [endOf(trace.source), endOf(trace.destination)];
  const expect = stated[trace.verdict.outcome];
  return {
    name: nameOf(from, to, expect),
    from,
    to,
    services: asked.on.split(",").map((s) => s.trim().replace(/ from .*$/, "")),
    expect,
  };
}

/** The expectation for a cell of the board: that nothing passes, or that all of it is as it is. */
export function expectationOfCell(
  row: string,
  col: string,
  marks: Schemas["Mark"][],
): Record<string, unknown> & { name: string } {
  const end = (id: string): Expectation["from"] => {
    if (id === "internet") return "internet";
    const [segment = "", group] = id.split("/");
    return { segment, groups: group && group !== "-" ? [group] : "any" };
  };
  const all = new Set(marks.map((m) => stated[m.outcome]));
  const [only] = all;
  const expect = all.size === 1 && only ? only : "denied";
  return {
    name: nameOf(end(row), end(col), expect),
    from: end(row),
    to: end(col),
    services: ["any"],
    expect,
  };
}

function nameOf(from: Expectation["from"], to: Expectation["from"], expect: string): string {
  const word = (e: Expectation["from"]) =>
    e === "internet" ? "outside" : typeof e.groups === "string" ? e.segment : (e.groups[0] ?? e.segment);
  return `${word(from)}-to-${word(to)}-${expect}`.slice(0, 63);
}
