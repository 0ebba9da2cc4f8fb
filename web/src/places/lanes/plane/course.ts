import type { Schemas } from "../../../api/client";
import { cellKey, chipInset, gateX, node } from "./layout";
import type { Plan } from "./layout";

type Trace = Schemas["Trace"];
type Path = Schemas["Path"];

export interface Point {
  x: number;
  y: number;
}

/** A question's way over the lanes: there and back, the gates it meets, and where it ends. */
export interface Course {
  there: Point[];
  /** What would follow where the flow ends early. */
  beyond: Point[];
  back: Point[];
  gates: { at: Point; pool: string; blocked: boolean }[];
  /** What a link costs, in the middle of it. */
  hops: { at: Point; text: string }[];
  end: Point | null;
}

/** Lays the road of a flow over the plan, hop by hop. */
export function courseOf(plan: Plan, t: Trace): Course | null {
  const src = spot(plan, t.source, t.path.enter?.hub, t.path.exit);
  const dst = spot(plan, t.destination, t.path.leave?.hub, t.path.exit);
  if (!src) return null;
  const way = new Way(plan, src);
  way.follow(t.path, t.pools, dst);
  const course: Course = {
    there: way.points,
    beyond: [],
    back: [],
    gates: way.gates,
    hops: way.hops,
    end: null,
  };
  const stop = stopOf(t, way);
  if (stop >= 0) {
    course.beyond = way.points.slice(stop);
    course.there = way.points.slice(0, stop + 1);
    course.end = way.points[stop] ?? null;
  }
  if (t.back && t.back.kind !== "none") {
    const from = spot(plan, t.destination, t.back.enter?.hub, t.back.exit);
    const to = spot(plan, t.source, t.back.leave?.hub, t.back.exit);
    if (from && to) {
      const back = new Way(plan, from);
      back.follow(t.back, [], to);
      course.back = back.points.map((p) => ({ x: p.x + 5, y: p.y + 5 }));
    }
  }
  return course;
}

/** Where on the way a flow ends: the place in the list, or -1 where it arrives. */
function stopOf(t: Trace, way: Way): number {
  const v = t.verdict;
  const arrives = v.outcome === "allowed" || v.outcome === "inspected";
  if (arrives || v.reason === "no-way-back" || v.reason === "asymmetric") return -1;
  if (t.path.kind === "none") return way.points.length - 1;
  const gate = way.gates.find((g) => g.blocked);
  const at = gate ? way.points.findIndex((p) => p.x === gate.at.x && p.y === gate.at.y) : way.entered;
  return Math.max(0, at);
}

interface Spot extends Point {
  lane: number;
  /** Where the twig to it leaves its hub's stem. */
  stem: number;
  /** The height between rows of chips, where other chips stand between it and the stem. */
  gap?: number;
}

/** Where an end of a flow stands: its network's chip, or what it is folded into, or an exit. */
function spot(plan: Plan, e: Schemas["End"], hub: string | undefined, exit: string): Spot | null {
  const internet = plan.lanes.length - 1;
  if (!e.internal) {
    const column = plan.columns.findIndex((_, c) =>
      plan.cells.get(cellKey(internet, c))?.exits.some((x) => x.name === (e.exit || exit)),
    );
    const at = node(plan, internet, Math.max(0, column));
    return { ...at, lane: internet, stem: at.x };
  }
  const lane = plan.lanes.findIndex((l) => l.name === e.segment && !l.internet);
  if (lane < 0) return null;
  const wanted = plan.columns.findIndex((c) => c.hub?.name === hub);
  const columns = [wanted, ...plan.columns.keys()].filter((c) => c >= 0);
  for (const c of columns) {
    const chip = plan.cells.get(cellKey(lane, c))?.chips.find((x) => x.network.name === e.network);
    const first = chip?.x === (plan.columns[c]?.left ?? 0) + chipInset;
    if (chip)
      return {
        x: chip.x,
        y: chip.y + 11,
        lane,
        stem: node(plan, lane, c).x,
        ...(!first && { gap: chip.y - 2 }),
      };
  }
  const at = node(plan, lane, Math.max(0, wanted));
  return { x: at.x, y: at.y + plan.sizes.below, lane, stem: at.x };
}

/** How far before a chip a way turns to it. */
const beforeChip = 5;

/** How far beside the hubs' own lines a way goes from lane to lane. */
const aside = 8;

class Way {
  readonly plan: Plan;
  readonly src: Spot;
  readonly points: Point[];
  readonly gates: Course["gates"] = [];
  readonly hops: Course["hops"] = [];
  /** The first point at a hub. */
  entered = -1;

  constructor(plan: Plan, src: Spot) {
    this.plan = plan;
    this.src = src;
    this.points = [{ x: src.x, y: src.y }];
  }

  follow(p: Path, pools: Trace["pools"], dst: Spot | null) {
    const internet = this.plan.lanes.length - 1;
    const lane = dst && dst.lane !== internet ? dst.lane : this.src.lane;
    if (p.kind === "hub") this.overHubs(p, pools, lane);
    if (p.kind === "none") {
      if (p.enter) this.toNode(this.src.lane, p.enter.hub);
      return;
    }
    if (!dst) return;
    if (p.kind === "hub") {
      if (dst.lane === internet) this.across(dst.y);
      else this.enter(dst);
    }
    this.go({ x: dst.x, y: dst.y });
  }

  /** From the stem of a hub towards a chip, around those that stand before it. */
  private enter(dst: Spot) {
    this.go({ x: dst.stem, y: dst.gap ?? dst.y });
    if (dst.gap === undefined) return;
    this.go({ x: dst.x - beforeChip, y: dst.gap });
    this.go({ x: dst.x - beforeChip, y: dst.y });
  }

  /** From a chip to the stem of its hub. */
  private leave(src: Spot) {
    if (src.gap !== undefined) {
      this.go({ x: src.x - beforeChip, y: src.y });
      this.go({ x: src.x - beforeChip, y: src.gap });
    }
    this.go({ x: src.stem, y: src.gap ?? src.y });
  }

  private overHubs(p: Path, pools: Trace["pools"], lane: number) {
    const first = p.hops[0]?.hub ?? "";
    const internet = this.plan.lanes.length - 1;
    if (this.src.lane !== internet) {
      this.leave(this.src);
      this.toNode(this.src.lane, first);
    }
    this.entered = this.points.length - 1;
    if (this.src.lane !== lane) this.across(this.plan.lanes[lane]?.rail ?? 0);
    p.hops.forEach((hop, i) => {
      const before = this.points[this.points.length - 1];
      const at = this.toNode(lane, hop.hub);
      if (i > 0 && at && before)
        this.hops.push({ at: { x: (before.x + at.x) / 2, y: at.y }, text: String(hop.cost) });
      for (const pool of pools) {
        if (pool.hub === hop.hub || (i === 0 && !pool.onWay && pool.hub)) this.pass(pool, lane, hop.hub);
      }
    });
  }

  /** To a gate and back; one that is not on the way is gone to first. */
  private pass(pool: Trace["pools"][number], lane: number, from: string) {
    if (pool.state !== "passed" && pool.state !== "blocked") return;
    const column = this.plan.columns.findIndex((c) => c.hub?.name === pool.hub);
    if (column < 0) return;
    this.toNode(lane, pool.hub);
    const at = { x: gateX(this.plan, lane, column, pool.pool), y: this.plan.lanes[lane]?.rail ?? 0 };
    this.go(at);
    this.gates.push({ at, pool: pool.pool, blocked: pool.state === "blocked" });
    this.toNode(lane, pool.hub);
    this.toNode(lane, from);
  }

  /** From lane to lane, beside what is drawn there. */
  private across(y: number) {
    const from = this.points[this.points.length - 1];
    if (!from) return;
    this.go({ x: from.x - aside, y: from.y });
    this.go({ x: from.x - aside, y });
    this.go({ x: from.x, y });
  }

  private toNode(lane: number, hub: string): Point | null {
    const column = this.plan.columns.findIndex((c) => c.hub?.name === hub);
    if (column < 0) return null;
    const at = node(this.plan, lane, column);
    this.go(at);
    return at;
  }

  private go(at: Point) {
    const last = this.points[this.points.length - 1];
    if (last?.x !== at.x || last.y !== at.y) this.points.push(at);
  }
}
