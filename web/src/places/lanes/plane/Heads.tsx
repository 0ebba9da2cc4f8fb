import { Hourglass } from "lucide-react";
import { Fragment } from "react";
import { counted } from "../../../parts/wording";
import { StateGlyph } from "../Glyphs";
import { node, trackTop } from "./layout";
import type { Plan, Track } from "./layout";
import type { Told } from "../estate";
import type { Lit } from "../lit";
import type { Window } from "./useWindow";

/** The hubs across the top, and the links between them on tracks above. */
export function HubHeads({
  plan,
  told,
  unforced,
  window,
  scope,
  onHub,
}: {
  plan: Plan;
  told: Told;
  unforced: string;
  window: Window;
  scope: Lit | null;
  onHub: (name: string) => void;
}) {
  const far = plan.detail === "far";
  return (
    <div
      className="sticky top-0 z-20 border-b border-line bg-paper"
      style={{ height: plan.head, width: plan.width }}
    >
      {plan.tracks > 0 && <Links plan={plan} />}
      <div
        className="sticky left-0 z-10 bg-paper"
        style={{ width: plan.side - 1, height: plan.head - 1 }}
        aria-hidden
      >
        {plan.tracks > 0 && (
          <span className="absolute top-1.5 left-5 text-xs text-soft">links, with their costs</span>
        )}
      </div>
      {plan.columns.map((column, i) => {
        if (i < window.columns[0] || i > window.columns[1]) return null;
        const { hub } = column;
        const state = (hub && told.get(`hub:${hub.name}`)?.state) || "up";
        return (
          <button
            key={hub?.name ?? "-"}
            data-hub={hub?.name ?? ""}
            disabled={!hub}
            onClick={() => hub && onHub(hub.name)}
            data-lit={(hub && scope?.hubs.has(hub.name)) || undefined}
            className={`absolute bottom-0 flex pb-1.5 text-left enabled:hover:text-accent ${scope && !(hub && scope.hubs.has(hub.name)) ? "opacity-35" : ""} ${far ? "items-end justify-center" : "flex-col justify-end pl-1.5"}`}
            style={{ left: column.left, width: column.width, height: plan.head - plan.tracks }}
            title={hub ? `${hub.name}: ${hub.account} ${hub.region}` : "not attached to a hub"}
          >
            {far ? (
              <span
                className="max-h-[92px] truncate text-[13px] font-semibold"
                style={{ writingMode: "vertical-rl", transform: "rotate(180deg)" }}
              >
                {hub?.name ?? "no hub"}
              </span>
            ) : (
              <>
                <span className="flex max-w-full items-center gap-1.5 leading-5">
                  <span className={`truncate ${hub ? "font-semibold" : "text-soft"}`}>
                    {hub?.name ?? "no hub"}
                  </span>
                  <StateGlyph state={state} />
                  {hub && unforced && (
                    <Hourglass size={11} role="img" aria-label={unforced} className="flex-none text-denied" />
                  )}
                </span>
                <span className="max-w-full truncate text-xs leading-4 text-soft">
                  {hub ? hub.region || hub.account : "not attached"}
                  {hub &&
                    plan.hidden.has(hub.name) &&
                    ` · ${counted(plan.hidden.get(hub.name) ?? 0, "more link")}`}
                </span>
              </>
            )}
          </button>
        );
      })}
    </div>
  );
}

function Links({ plan }: { plan: Plan }) {
  return (
    <svg
      className="absolute top-0 left-0"
      width={plan.width}
      height={plan.head}
      fill="none"
      role="img"
      aria-label={plan.links
        .map((l) => `link ${l.link.between.join(" to ")}, cost ${l.link.cost}, ${l.link.state}`)
        .join("; ")}
    >
      {plan.links.map((t) => (
        <Link key={t.link.name} plan={plan} track={t} />
      ))}
    </svg>
  );
}

/** Where on its column the end of a link stands, so that no two fall together. */
const port = (plan: Plan, column: number, track: number, side: number) =>
  node(plan, 0, column).x + (side > 0 ? (track % 7) * 4 : -4 - (track % 3) * 3);

function Link({ plan, track }: { plan: Plan; track: Track }) {
  const { link } = track;
  const up = link.state === "up";
  const y = trackTop(plan, track.track);
  const a = port(plan, track.from, track.track, 1);
  const b = port(plan, track.to, track.track, -1);
  const foot = plan.tracks + 2;
  const words = `${link.cost}${link.segments.length > 0 ? ` · ${link.segments.join(", ")} only` : ""}${up ? "" : " · down"}`;
  const shown = words.length * 6.2 + 10 < b - a ? words : String(link.cost);
  const width = shown.length * 6.2 + 8;
  return (
    <g
      stroke={up ? "var(--soft)" : "var(--denied)"}
      strokeWidth="1.6"
      strokeLinecap="round"
      data-link={link.name}
    >
      <title>{`${link.between.join(" — ")}: cost ${link.cost}, ${link.state}. ${link.why}`}</title>
      <path
        d={`M${a} ${foot}V${y + 5}q0 -5 5 -5H${b - 5}q5 0 5 5V${foot}`}
        strokeDasharray={up ? undefined : ".1 5"}
      />
      <rect x={(a + b - width) / 2} y={y - 7} width={width} height="14" fill="var(--paper)" stroke="none" />
      <text
        x={(a + b) / 2}
        y={y + 4}
        textAnchor="middle"
        stroke="none"
        fill={up ? "var(--ink)" : "var(--denied)"}
        fontSize="12"
      >
        {shown}
      </text>
    </g>
  );
}

/** The lanes' names, down the side. */
export function LaneHeads({
  plan,
  window,
  scope,
  onLane,
  onShares,
}: {
  plan: Plan;
  window: Window;
  scope: Lit | null;
  onLane: (lane: number) => void;
  onShares: (lane: number) => void;
}) {
  return (
    <div className="sticky left-0 z-10 h-0" style={{ width: plan.side }}>
      {plan.lanes.map((lane, i) => {
        if (i < window.lanes[0] || i > window.lanes[1]) return null;
        return (
          <Fragment key={lane.name}>
            <button
              data-lane={lane.name}
              data-lit={scope?.lanes.has(lane.internet ? "" : lane.name) || undefined}
              onClick={() => onLane(i)}
              className={`absolute left-0 border-r border-b border-line/70 pr-2 pl-5 text-left hover:text-accent ${i % 2 === 0 ? "bg-sheet" : "bg-paper"}`}
              style={{ top: lane.top - plan.head, height: lane.height, width: plan.side }}
            >
              <span
                className={`absolute left-5 max-w-[calc(100%-1.75rem)] truncate font-serif text-[15px] leading-5 font-semibold ${scope && !scope.lanes.has(lane.internet ? "" : lane.name) ? "opacity-35" : ""}`}
                style={{ top: lane.rail - lane.top - 10 }}
              >
                {lane.name}
              </span>
              {plan.detail !== "far" && (
                <span
                  className="absolute left-5 text-xs text-soft"
                  style={{ top: lane.rail - lane.top + 12 }}
                >
                  {lane.internet ? "exits and publications" : laneWords(lane.networks)}
                  {lane.default === "allow" && !lane.internet && (
                    <span className="block text-denied">allows by default</span>
                  )}
                </span>
              )}
            </button>
            {lane.shares > 0 && plan.detail !== "far" && (
              <button
                className="absolute left-5 flex h-6 min-w-6 items-center text-xs text-soft hover:text-accent hover:underline"
                style={{ top: lane.rail - plan.head + (lane.default === "allow" ? 40 : 24) }}
                aria-label={`${counted(lane.shares, "share")} of ${lane.name}`}
                onClick={() => onShares(i)}
              >
                {counted(lane.shares, "share")}
              </button>
            )}
          </Fragment>
        );
      })}
    </div>
  );
}

const laneWords = (n: number) => (n === 0 ? "no networks" : counted(n, "network"));
