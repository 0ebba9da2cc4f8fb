import type { Schemas } from "../../../api/client";
import { attachState, segmentsOf } from "../estate";
import type { Attach, Estate, Gate, Network, Told } from "../estate";

/** How much is drawn of each network: from a number for many, to every one by name. */
export const details = ["far", "counts", "names", "all"] as const;
export type Detail = (typeof details)[number];

/** A place of the plane: where a lane and a column cross. */
export interface At {
  lane: number;
  column: number;
}

/** Sizes in pixels. Text never gets smaller than it can be read: what has no room is folded. */
interface Sizes {
  column: number;
  side: number;
  /** From the top of a lane to its line, and from there to the first chip. */
  rail: number;
  below: number;
  chip: number;
  /** The least height of a lane. */
  lane: number;
  /** How many chips a place shows before it counts the rest. */
  most: number;
}

const sizes: Record<Detail, Sizes> = {
  far: { column: 38, side: 118, rail: 12, below: 0, chip: 0, lane: 24, most: 0 },
  counts: { column: 104, side: 140, rail: 20, below: 12, chip: 22, lane: 62, most: 1 },
  names: { column: 170, side: 150, rail: 24, below: 14, chip: 26, lane: 64, most: 6 },
  all: { column: 170, side: 150, rail: 24, below: 14, chip: 26, lane: 64, most: Infinity },
};

/** A network where it is attached, in one of its segments. */
export interface Chip {
  network: Network;
  attach: Attach | null;
  x: number;
  y: number;
  width: number;
  row: number;
}

/** What a lane and a column have in common. */
export interface Cell {
  lane: number;
  column: number;
  chips: Chip[];
  /** Rows of chips, and what is folded. */
  rows: number;
  /** Networks that are not drawn one by one, and how many of them are unhealthy. */
  folded: number;
  foldedUnhealthy: number;
  count: number;
  unhealthy: number;
  gates: Gate[];
  exits: Schemas["LaneExit"][];
}

export interface Column {
  hub: Schemas["LaneHub"] | null; // null: attached nowhere
  left: number;
  width: number;
}

export interface LanePlan {
  name: string;
  internet: boolean;
  default: "allow" | "deny";
  top: number;
  height: number;
  rail: number;
  /** The first and last column where the lane has anything. */
  from: number;
  to: number;
  networks: number;
  shares: number;
}

/** A link between two columns, on a track above them. */
export interface Track {
  link: Schemas["LaneLink"];
  from: number;
  to: number;
  track: number;
}

/** Shares between two lanes, on a track beside them. */
export interface Bridge {
  lanes: [number, number];
  shares: Schemas["LaneShare"][];
  track: number;
  /** What stands beside it, and where: clear of the words of other bridges. */
  words: string;
  wordsY: number;
}

export interface Plan {
  detail: Detail;
  sizes: Sizes;
  width: number;
  height: number;
  /** Heights of the tracks of links, and of all the head. */
  tracks: number;
  head: number;
  side: number;
  columns: Column[];
  lanes: LanePlan[];
  cells: Map<string, Cell>;
  links: Track[];
  /** By hub: links for which there is no track. */
  hidden: Map<string, number>;
  bridges: Bridge[];
  /** There are too many bridges: none is drawn but those of the lane whose shares are looked at. */
  crowded: boolean;
  peerings: { between: [Chip, Chip]; offersHub: string }[];
  /** Networks that no segment holds. */
  tray: Network[];
}

export const cellKey = (lane: number, column: number) => `${lane}:${column}`;

/** How much of an estate can be drawn so that it is legible at once. */
export function fitting(e: Estate, width: number): Detail {
  const columns = e.hubs.length;
  if (e.networks.length <= 120 && columns * sizes.names.column <= 1.6 * width) return "names";
  if (columns * sizes.counts.column + sizes.counts.side <= width) return "counts";
  return "far";
}

const trackHeight = 17;
const bridgeWidth = 26;
/** How wide a column gets where there is room. */
const widest = 420;
/** From the left of a column to its chips. */
export const chipInset = 26;
export const gutterPad = 14;
/** Of more bridges than this, only those of one lane at a time are drawn. */
export const mostBridges = 14;

/** Where everything stands: worked out from what there is alone, in order of names. */
export function layout(e: Estate, detail: Detail, told: Told, wide = 0, focus = "", sharing = ""): Plan {
  const s = sizes[detail];
  const hubs = [...e.hubs].sort((a, b) => (a.name < b.name ? -1 : 1));
  const columnOf = new Map(hubs.map((h, i) => [h.name, i]));
  const segments = [...e.segments].sort((a, b) => (a.name < b.name ? -1 : 1));
  const laneOf = new Map(segments.map((l, i) => [l.name, i]));
  const placed = e.networks.filter((n) => segmentsOf(n).some((l) => laneOf.has(l)));
  const hubless = placed.some((n) => n.at.length === 0);
  const every = layBridges(e.shares, laneOf);
  const crowded = every.length > mostBridges;
  const bridges = crowded
    ? layBridges(
        e.shares.filter((x) => x.owner === sharing || x.guest === sharing),
        laneOf,
      )
    : every;
  const beside = Math.max(0, ...bridges.map((b) => b.track + 1));
  const words = detail === "far" ? 0 : Math.max(0, ...bridges.map((b) => bridgeWordsWidth(b.words)));
  const gutter = gutterPad + beside * bridgeWidth + 24 + words;
  const narrow = hubless ? Math.min(s.column, 150) : 0; // the column of those that are attached nowhere
  const room = Math.floor((wide - s.side - gutter - narrow) / Math.max(1, hubs.length));
  const column = Math.max(s.column, Math.min(detail === "far" ? 60 : widest, room));
  let left = s.side;
  const columns: Column[] = (hubless ? [...hubs, null] : hubs).map((hub) => {
    const at = { hub, left, width: hub ? column : narrow };
    left += at.width;
    return at;
  });

  const cells = gather(e, placed, segments.length, { laneOf, columnOf, hubless: columns.length - 1 });
  const unhealthy = (c: Chip) => c.network.gone || attachState(told, c.network, c.attach).state !== "up";
  for (const cell of cells.values()) {
    cell.chips.sort(
      (a, b) => Number(unhealthy(b)) - Number(unhealthy(a)) || (a.network.name < b.network.name ? -1 : 1),
    );
    cell.count = cell.chips.length;
    cell.unhealthy = cell.chips.filter(unhealthy).length;
    const most = s.most >= cell.count ? cell.count : s.most - 1;
    const rest = cell.chips.splice(Math.max(0, most));
    cell.folded = rest.length;
    cell.foldedUnhealthy = rest.filter(unhealthy).length;
    cell.rows =
      pack(cell.chips, (columns[cell.column]?.width ?? 0) - chipInset - 8, unhealthy) +
      (rest.length > 0 ? 1 : 0);
  }

  const { links, hidden } = layTracks(e, columnOf, focus);
  const tracks = detail === "far" ? 0 : Math.max(1, ...links.map((l) => l.track + 1)) * trackHeight + 8;
  const longest = Math.max(4, ...hubs.map((h) => h.name.length));
  const head = tracks + (detail === "far" ? Math.min(104, 18 + 7.5 * longest) : 46);
  const lanes: LanePlan[] = [];
  let top = head;
  for (let i = 0; i <= segments.length; i++) {
    const own = columns.map((_, c) => cells.get(cellKey(i, c))).filter((c) => c !== undefined);
    const rows = Math.max(0, ...own.map((c) => c.rows));
    const exits = i === segments.length ? Math.max(0, ...own.map((c) => c.exits.length)) : 0;
    const sharing = e.shares.filter(
      (x) => x.owner === segments[i]?.name || x.guest === segments[i]?.name,
    ).length;
    const said = segments[i]?.default === "allow" && sharing > 0 && detail !== "far" ? 16 : 0; // a line more in its head
    const height = Math.max(
      s.lane + said,
      s.rail + s.below + Math.max(rows, exits) * s.chip + (s.chip ? 10 : 0),
    );
    const at = own.map((c) => c.column);
    lanes.push({
      name: segments[i]?.name ?? "internet",
      internet: i === segments.length,
      default: segments[i]?.default ?? "deny",
      top,
      height,
      rail: top + s.rail,
      from: Math.min(...at, Infinity),
      to: Math.max(...at, -1),
      networks: placed.filter((n) => segmentsOf(n).includes(segments[i]?.name ?? "")).length,
      shares: sharing,
    });
    top += height;
  }
  for (const cell of cells.values()) {
    const lane = lanes[cell.lane];
    const at = columns[cell.column];
    for (const c of cell.chips) {
      c.x += (at?.left ?? 0) + chipInset;
      c.y = (lane?.rail ?? 0) + s.below + c.row * s.chip;
    }
  }
  placeWords(bridges, lanes);
  return {
    detail,
    sizes: { ...s, column },
    width: Math.max(left + gutter, wide), // the lanes run on where there is room
    height: top,
    tracks,
    head,
    side: s.side,
    columns,
    lanes,
    cells,
    links,
    hidden,
    bridges,
    crowded,
    peerings: joinPeers(e, cells),
    tray: e.networks.filter((n) => segmentsOf(n).length === 0),
  };
}

type Places = { laneOf: Map<string, number>; columnOf: Map<string, number>; hubless: number };

/** Puts networks, gates and exits where a lane and a column meet. */
function gather(e: Estate, placed: Network[], internet: number, at: Places): Map<string, Cell> {
  const cells = new Map<string, Cell>();
  const cell = (lane: number, column: number): Cell => {
    const key = cellKey(lane, column);
    let c = cells.get(key);
    if (!c) {
      c = {
        lane,
        column,
        chips: [],
        rows: 0,
        folded: 0,
        foldedUnhealthy: 0,
        count: 0,
        unhealthy: 0,
        gates: [],
        exits: [],
      };
      cells.set(key, c);
    }
    return c;
  };
  for (const network of placed) {
    for (const lane of segmentsOf(network).map((l) => at.laneOf.get(l))) {
      if (lane === undefined) continue;
      if (network.at.length === 0)
        cell(lane, at.hubless).chips.push({ network, attach: null, x: 0, y: 0, width: 0, row: 0 });
      for (const attach of network.at) {
        const column = at.columnOf.get(attach.hub);
        if (column !== undefined)
          cell(lane, column).chips.push({ network, attach, x: 0, y: 0, width: 0, row: 0 });
      }
    }
  }
  for (const gate of e.gates) {
    const column = at.columnOf.get(gate.hub);
    if (column === undefined) continue;
    for (const segment of gate.segments) {
      const lane = at.laneOf.get(segment);
      if (lane !== undefined) cell(lane, column).gates.push(gate);
    }
  }
  for (const exit of e.exits) {
    const column = at.columnOf.get(exit.hub);
    if (column === undefined) continue;
    cell(internet, column).exits.push(exit);
    for (const segment of exit.segments) {
      const lane = at.laneOf.get(segment);
      if (lane !== undefined) cell(lane, column).exits.push(exit);
    }
  }
  return cells;
}

/** How many tracks of links there are; what finds no room on them is counted. */
const mostTracks = 5;

/**
 * Gives links tracks above the columns, the shortest next to them, none over another; those of the
 * hub that is looked at come first.
 */
function layTracks(e: Estate, columnOf: Map<string, number>, focus: string) {
  const out: Track[] = [];
  for (const link of e.links) {
    const [a, b] = link.between.map((h) => columnOf.get(h));
    if (a !== undefined && b !== undefined && a !== b) {
      out.push({ link, from: Math.min(a, b), to: Math.max(a, b), track: 0 });
    }
  }
  const looked = (t: Track) => t.link.between.includes(focus);
  out.sort(
    (a, b) =>
      Number(looked(b)) - Number(looked(a)) ||
      a.to - a.from - (b.to - b.from) ||
      a.from - b.from ||
      (a.link.name < b.link.name ? -1 : 1),
  );
  const span = (t: Track) => [t.from, t.to] as const;
  stack(out, span);
  const links = out.filter((t) => t.track < mostTracks || looked(t) || t.link.state !== "up");
  const hidden = new Map<string, number>();
  for (const t of out) {
    if (links.includes(t)) continue;
    for (const hub of t.link.between) hidden.set(hub, (hidden.get(hub) ?? 0) + 1);
  }
  stack(links, span);
  return { links, hidden };
}

/** Gives shares tracks beside the lanes, those of two lanes together. */
function layBridges(shares: Estate["shares"], laneOf: Map<string, number>): Bridge[] {
  const byPair = new Map<string, Bridge>();
  for (const share of shares) {
    const [a, b] = [laneOf.get(share.owner), laneOf.get(share.guest)];
    if (a === undefined || b === undefined || a === b) continue;
    const lanes: [number, number] = [Math.min(a, b), Math.max(a, b)];
    const key = lanes.join();
    const bridge = byPair.get(key) ?? { lanes, shares: [], track: 0, words: "", wordsY: 0 };
    bridge.shares.push(share);
    byPair.set(key, bridge);
  }
  const out = [...byPair.values()];
  out.sort((a, b) => a.lanes[1] - a.lanes[0] - (b.lanes[1] - b.lanes[0]) || a.lanes[0] - b.lanes[0]);
  stack(out, (b) => b.lanes);
  for (const b of out) {
    const first = b.shares[0]?.name ?? "";
    b.words = b.shares.length === 1 ? first : `${first} +${b.shares.length - 1}`;
  }
  return out;
}

/** About how wide the words beside a bridge are. */
const bridgeWordsWidth = (words: string) => Math.min(mostWords, words.length) * 6.6 + 10;

/** How many letters of the name of a share stand beside its line. */
export const mostWords = 24;

const wordsHeight = 18;

/** Gives the words of bridges heights next to the middle of their lines, none over another. */
function placeWords(bridges: Bridge[], lanes: LanePlan[]) {
  const middle = (b: Bridge) => ((lanes[b.lanes[0]]?.rail ?? 0) + (lanes[b.lanes[1]]?.rail ?? 0)) / 2;
  let last = -Infinity;
  for (const b of [...bridges].sort((a, b) => middle(a) - middle(b))) {
    b.wordsY = Math.max(middle(b), last + wordsHeight);
    last = b.wordsY;
  }
}

/** Puts each thing on the first track where it runs beside no other; ends may meet. */
function stack<T extends { track: number }>(things: T[], span: (t: T) => readonly [number, number]) {
  const taken: (readonly [number, number])[][] = [];
  for (const thing of things) {
    const [from, to] = span(thing);
    let track = 0;
    while (taken[track]?.some(([a, b]) => from < b && a < to)) track++;
    (taken[track] ??= []).push([from, to]);
    thing.track = track;
  }
}

/** Joins the chips of peered networks where both are drawn: those nearest to each other. */
function joinPeers(e: Estate, cells: Map<string, Cell>): Plan["peerings"] {
  const drawn = new Map<string, Chip[]>();
  for (const cell of cells.values()) {
    for (const chip of cell.chips) {
      const list = drawn.get(chip.network.name) ?? [];
      list.push(chip);
      drawn.set(chip.network.name, list);
    }
  }
  const out: Plan["peerings"] = [];
  for (const p of e.peerings) {
    let best: [Chip, Chip] | null = null;
    let least = Infinity;
    for (const a of drawn.get(p.between[0] ?? "") ?? []) {
      for (const b of drawn.get(p.between[1] ?? "") ?? []) {
        const far = Math.abs(a.x - b.x) + Math.abs(a.y - b.y);
        if (far < least) [best, least] = [[a, b], far];
      }
    }
    if (best) out.push({ between: best, offersHub: p.offersHub });
  }
  return out;
}

/** Where the line of a lane meets a column. */
export function node(plan: Plan, lane: number, column: number): { x: number; y: number } {
  const at = plan.columns[column];
  const far = plan.detail === "far";
  return {
    x: (at?.left ?? 0) + (far ? plan.sizes.column / 2 : 14),
    y: plan.lanes[lane]?.rail ?? 0,
  };
}

/** Puts chips into rows, in order, as many on each as there is room for; returns how many rows. */
function pack(chips: Chip[], room: number, unhealthy: (c: Chip) => boolean): number {
  let row = 0;
  let x = 0;
  for (const chip of chips) {
    const { attach, network } = chip;
    const more =
      (attach && attach.cost > 1 ? 6 + 7 * String(attach.cost).length : 0) +
      (attach && attach.waiting > 0 ? 72 : 0) +
      (network.gone ? 34 : 0) +
      (network.subnets.some((s) => s.outside !== "") ? 72 : 0) +
      (unhealthy(chip) ? 18 : 0);
    chip.width = Math.min(room, Math.ceil(38 + 7.6 * network.name.length + more));
    if (x > 0 && x + chip.width > room) [row, x] = [row + 1, 0];
    chip.row = row;
    chip.x = x;
    x += chip.width + 9;
  }
  return chips.length === 0 ? 0 : row + 1;
}

/** Where on the line of a lane the gate of a pool stands. */
export function gateX(plan: Plan, lane: number, column: number, pool: string): number {
  const at = node(plan, lane, column);
  if (plan.detail === "far") return at.x + 17;
  const gates = plan.cells.get(cellKey(lane, column))?.gates ?? [];
  const i = Math.max(
    0,
    gates.findIndex((g) => g.pool === pool),
  );
  return at.x + 26 + i * Math.min(92, (plan.sizes.column - 40) / Math.max(1, gates.length));
}

/** The height of a track of links above the columns. */
export const trackTop = (plan: Plan, track: number) => plan.tracks - 10 - track * trackHeight;

/** Where a bridge stands. */
export function bridgeLeft(plan: Plan, track: number): number {
  const last = plan.columns[plan.columns.length - 1];
  return (last ? last.left + last.width : plan.side) + gutterPad + track * bridgeWidth;
}

/** The numbers of the first and last thing that meet a stretch of pixels. */
export function visible(starts: number[], ends: number[], from: number, to: number): [number, number] {
  let first = starts.length;
  let last = -1;
  starts.forEach((start, i) => {
    if ((ends[i] ?? start) >= from && start <= to) {
      first = Math.min(first, i);
      last = i;
    }
  });
  return [first, last];
}
