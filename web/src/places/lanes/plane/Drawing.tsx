import { memo } from "react";
import type { Course, Point } from "./course";
import { attachState } from "../estate";
import { bridgeLeft, cellKey, chipInset, gateX, mostWords, node } from "./layout";
import type { Bridge, Cell, Plan } from "./layout";
import type { Told } from "../estate";
import type { Lit } from "../lit";
import type { Window } from "./useWindow";

type Props = {
  plan: Plan;
  told: Told;
  window: Window;
  course: Course | null;
  lit: string;
  scope: Lit | null;
  /** Opens the shares of two lanes. */
  onShares: (lanes: [number, number]) => void;
};

/** Everything that is a line: the lanes' own, what hangs on them, what joins them, and a question's way. */
export const Drawing = memo(function Drawing({ plan, told, window, course, lit, scope, onShares }: Props) {
  const cells: Cell[] = [];
  for (let lane = window.lanes[0]; lane <= window.lanes[1]; lane++) {
    for (let column = window.columns[0]; column <= window.columns[1]; column++) {
      const cell = plan.cells.get(cellKey(lane, column));
      if (cell) cells.push(cell);
    }
  }
  const dimmed = (lane: number) => {
    const of = plan.lanes[lane];
    return scope !== null && of !== undefined && !scope.lanes.has(of.internet ? "" : of.name);
  };
  const shown = plan.bridges.filter((b) => b.lanes[0] <= window.lanes[1] && b.lanes[1] >= window.lanes[0]);
  return (
    <svg
      className="pointer-events-none absolute top-0 left-0"
      width={plan.width}
      height={plan.height}
      fill="none"
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden
    >
      {plan.lanes.map((lane, i) => {
        if (i < window.lanes[0] || i > window.lanes[1] || lane.to < 0) return null;
        const from = node(plan, i, lane.from).x;
        const bridged = plan.bridges.some((b) => b.lanes.includes(i));
        const to = bridged ? bridgeLeft(plan, 0) - 6 : node(plan, i, lane.to).x;
        return (
          <path
            key={lane.name}
            d={`M${from} ${lane.rail}H${to}`}
            stroke={lane.internet ? "var(--line)" : "var(--soft)"}
            strokeWidth={plan.detail === "far" ? 1 : 2}
            opacity={dimmed(i) ? 0.2 : plan.detail === "far" ? 0.4 : 0.75}
          />
        );
      })}
      {shown.map((b) => (
        <g
          key={b.lanes.join()}
          opacity={scope && !b.shares.some((s) => s.name === scope.share) ? 0.2 : undefined}
        >
          <BridgeLine plan={plan} bridge={b} onShares={onShares} />
        </g>
      ))}
      {cells.map((cell) => (
        <g key={cellKey(cell.lane, cell.column)} opacity={dimmed(cell.lane) ? 0.2 : undefined}>
          <CellLines plan={plan} told={told} cell={cell} scope={dimmed(cell.lane) ? null : scope} />
        </g>
      ))}
      {plan.peerings.map((p) => {
        const [a, b] = p.between;
        const [left, right] = a.x < b.x ? [a, b] : [b, a];
        const x = left.x + Math.min(left.width, 28 + left.network.name.length * 7);
        const on = lit === left.network.name || lit === right.network.name;
        if (!on && right.x - left.x > 2.4 * plan.sizes.column) return null; // it would run behind too many others
        return (
          <path
            key={`${a.network.name} ${b.network.name}`}
            d={
              left.x === right.x
                ? `M${left.x} ${left.y + 11}h-9V${right.y + 11}h9`
                : `M${x} ${left.y + 11}C${x + 30} ${left.y + 11} ${right.x - 40} ${right.y + 11} ${right.x} ${right.y + 11}`
            }
            stroke={on ? "var(--accent)" : "var(--soft)"}
            strokeWidth="1.4"
            strokeDasharray="5 4"
          />
        );
      })}
      {course && <CourseLines plan={plan} course={course} />}
    </svg>
  );
});

/** The node of a lane at a hub, its gates, and the twigs to its chips. */
const CellLines = memo(function CellLines({
  plan,
  told,
  cell,
  scope,
}: {
  plan: Plan;
  told: Told;
  cell: Cell;
  scope: Lit | null;
}) {
  const at = node(plan, cell.lane, cell.column);
  const far = plan.detail === "far";
  const internet = plan.lanes[cell.lane]?.internet;
  const hub = plan.columns[cell.column]?.hub;
  if (far) {
    return (
      <g stroke="var(--inspected)" strokeWidth="1.6">
        {cell.gates.length > 0 && <circle cx={at.x + 17} cy={at.y} r="3" fill="var(--paper)" />}
        {internet && cell.exits.length > 0 && <Way at={at} />}
      </g>
    );
  }
  const bottom = cell.chips[cell.chips.length - 1]?.y;
  const folds = cell.folded > 0 ? at.y + plan.sizes.below + (cell.rows - 1) * plan.sizes.chip : undefined;
  const foot = folds ?? bottom;
  return (
    <g stroke="var(--soft)" strokeWidth="1.5">
      {foot !== undefined && hub && <path d={`M${at.x} ${at.y}V${foot + 6}`} opacity=".75" />}
      {hub &&
        cell.chips.map((c) => {
          const { state } = attachState(told, c.network, c.attach);
          return (
            <path
              key={c.network.name}
              d={
                c.x === (plan.columns[cell.column]?.left ?? 0) + chipInset
                  ? `M${at.x} ${c.y + 6}q0 5 5 5H${c.x}`
                  : `M${c.x - 10} ${c.y + 11}H${c.x}`
              }
              stroke={state === "up" ? "var(--soft)" : "var(--denied)"}
              strokeDasharray={state === "up" ? undefined : ".1 4"}
              strokeWidth={state === "up" ? 1.5 : 2}
            />
          );
        })}
      {folds !== undefined && hub && <path d={`M${at.x} ${folds + 6}q0 5 5 5h4`} />}
      {hub && !internet && (cell.count > 0 || cell.exits.length > 0 || cell.gates.length > 0) && (
        <circle cx={at.x} cy={at.y} r="4" fill="var(--ink)" stroke="none" />
      )}
      {internet && cell.exits.length > 0 && <Way at={at} />}
      {!internet &&
        cell.gates.map((gate) => {
          const healthy = gate.firewalls.filter((f) => f.state === "healthy").length;
          const x = gateX(plan, cell.lane, cell.column, gate.pool);
          const unhealthy = healthy === 0 ? "var(--denied)" : "var(--inspected)";
          return (
            <g
              key={gate.pool}
              stroke={unhealthy}
              opacity={scope && !(scope.pools.has(gate.pool) && scope.hubs.has(gate.hub)) ? 0.2 : undefined}
              data-gate={`${gate.pool}@${gate.hub}`}
            >
              <circle
                cx={x}
                cy={at.y}
                r="5.5"
                fill="var(--paper)"
                strokeWidth="2.2"
                strokeDasharray={healthy === 0 ? "2 3" : undefined}
              />
              {plan.detail !== "counts" && (
                <text x={x - 5} y={at.y - 10} fill={unhealthy} stroke="none" fontSize="12">
                  {gate.pool}
                  {healthy < gate.firewalls.length ? ` ${healthy}/${gate.firewalls.length}` : ""}
                </text>
              )}
            </g>
          );
        })}
      {!internet && cell.exits.length > 0 && plan.detail !== "counts" && (
        <g stroke="var(--soft)" strokeWidth="1.5">
          <path
            d={`M${at.x - 8} ${at.y + 3}v7m-3 -3l3 3l3 -3`}
            stroke={cell.exits.some((x) => x.state === "up") ? "var(--soft)" : "var(--denied)"}
          />
        </g>
      )}
    </g>
  );
});

/** An exit, at the edge: a line that leaves. */
function Way({ at }: { at: Point }) {
  return <path d={`M${at.x} ${at.y - 9}v18m-5 -5l5 5l5 -5`} stroke="var(--ink)" strokeWidth="2" />;
}

const BridgeLine = memo(function BridgeLine({
  plan,
  bridge,
  onShares,
}: {
  plan: Plan;
  bridge: Bridge;
  onShares: Props["onShares"];
}) {
  const x = bridgeLeft(plan, bridge.track);
  const [a, b] = bridge.lanes.map((l) => plan.lanes[l]?.rail ?? 0);
  const on = bridge.shares.some((s) => s.enabled);
  const names = bridge.shares.map((s) => s.name).join(", ");
  const shown = bridge.shares.some((s) => s.show.length > 0) ? ", with translation" : "";
  const text = bridge.words.length > mostWords ? `${bridge.words.slice(0, mostWords - 1)}…` : bridge.words;
  const right = bridgeLeft(plan, Math.max(...plan.bridges.map((o) => o.track))) + 12;
  const d = `M${bridgeLeft(plan, 0) - 6} ${a}H${x - 5}q5 0 5 5V${(b ?? 0) - 5}q0 5 -5 5H${bridgeLeft(plan, 0) - 6}`;
  return (
    <g stroke="var(--accent)" strokeWidth="2" opacity={on ? 1 : 0.4} data-bridge={names}>
      <title>{names + shown}</title>
      <path d={d} />
      <path
        d={d}
        strokeWidth="14"
        stroke="transparent"
        className="pointer-events-auto cursor-pointer"
        onClick={() => onShares(bridge.lanes)}
      />
      {bridge.shares.some((s) => s.direction === "inbound") && <Heads plan={plan} bridge={bridge} x={x} />}
      {plan.detail !== "far" && (
        <>
          <circle cx={x} cy={bridge.wordsY} r="2.5" fill="var(--accent)" stroke="none" />
          <path d={`M${x} ${bridge.wordsY}H${right - 4}`} strokeWidth="1" strokeDasharray="1 3" />
          <text x={right} y={bridge.wordsY + 4} fontSize="12" fill="var(--ink)" stroke="none">
            {text}
          </text>
        </>
      )}
    </g>
  );
});

/** Points where the flows of shares may be opened to. */
function Heads({ plan, bridge, x }: { plan: Plan; bridge: Bridge; x: number }) {
  const owners = new Set(bridge.shares.map((s) => s.owner));
  return bridge.lanes
    .filter((l) => owners.has(plan.lanes[l]?.name ?? ""))
    .map((l) => {
      const y = plan.lanes[l]?.rail ?? 0;
      return <path key={l} d={`M${x - 8} ${y - 4}l-5 4l5 4`} />;
    });
}

const line = (points: Point[]) => points.map((p, i) => `${i === 0 ? "M" : "L"}${p.x} ${p.y}`).join("");

/** A question's way: solid as far as it comes, dotted back, faint where it would have gone on. */
function CourseLines({ plan, course }: { plan: Plan; course: Course }) {
  const end = course.end;
  const before = course.there[course.there.length - 2];
  const upright = !before || !end || before.y === end.y;
  return (
    <g data-testid="course">
      <path
        d={line(course.beyond)}
        stroke="var(--accent)"
        strokeWidth="3"
        opacity=".3"
        strokeDasharray=".1 6"
      />
      <path d={line(course.back)} stroke="var(--accent)" strokeWidth="2.4" strokeDasharray=".1 6" />
      <path d={line(course.there)} stroke="var(--paper)" strokeWidth="7" opacity=".7" />
      <path d={line(course.there)} stroke="var(--accent)" strokeWidth="4" data-course={course.there.length} />
      {course.gates.map((g) => (
        <circle
          key={g.pool}
          cx={g.at.x}
          cy={g.at.y}
          r="8"
          fill={g.blocked ? "var(--accent)" : "var(--paper)"}
          stroke="var(--accent)"
          strokeWidth="3"
        />
      ))}
      {end && (
        <path
          d={upright ? `M${end.x} ${end.y - 9}v18` : `M${end.x - 9} ${end.y}h18`}
          stroke="var(--denied)"
          strokeWidth="4"
        />
      )}
      {plan.detail !== "far" &&
        course.hops.map((h, i) => (
          <text key={i} x={h.at.x} y={h.at.y - 8} textAnchor="middle" fontSize="12" fill="var(--accent)">
            {h.text}
          </text>
        ))}
    </g>
  );
}
