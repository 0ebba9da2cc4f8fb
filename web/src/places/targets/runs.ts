import type { Line } from "../../api/targets";

/** Lines one after the other that differ on one side alone, as one. */
export type Run = Line & { last: number };

/** Joins neighbours that do the same for the same reason, and have one side in common. */
export function runsOf(lines: Line[]): Run[] {
  const out: Run[] = [];
  for (const l of lines) {
    const before = out[out.length - 1];
    const joined = before && joinedWith(before, l);
    if (joined) out[out.length - 1] = joined;
    else out.push({ ...l, last: l.place });
  }
  return out;
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

function joinedWith(a: Run, b: Line): Run | undefined {
  const alike = (l: Line) => [l.way, l.verb, l.services, l.through, l.for];
  if (b.verb !== "allow" || !same(alike(a), alike(b))) return undefined;
  if (same(a.to, b.to) && a.from.length > 0 && b.from.length > 0) {
    return { ...a, from: [...a.from, ...b.from], last: b.place };
  }
  if (same(a.from, b.from) && a.to.length > 0 && b.to.length > 0) {
    return { ...a, to: [...a.to, ...b.to], last: b.place };
  }
  return undefined;
}
