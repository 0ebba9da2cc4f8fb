import { memo, useEffect, useImperativeHandle, useMemo, useRef } from "react";
import type { KeyboardEvent, PointerEvent, Ref, RefObject } from "react";
import { Drawing } from "./Drawing";
import { CellView } from "./CellView";
import { HubHeads, LaneHeads } from "./Heads";
import { cellKey, node } from "./layout";
import type { At, Plan } from "./layout";
import type { Told } from "../estate";
import type { Unforced } from "../force";
import type { Lit } from "../lit";
import type { Course, Point } from "./course";
import { useWindow } from "./useWindow";

type Props = {
  plan: Plan;
  told: Told;
  unforced: Unforced;
  course: Course | null;
  at: At;
  lit: string; // the network that is looked at
  scope: Lit | null; // what a rule object concerns, while that is shown: the rest is dimmed
  onMove: (at: At) => void;
  onOpen: (at: At) => void;
  onNetwork: (name: string) => void;
  onHub: (name: string) => void;
  onLane: (lane: number) => void;
  /** Opens the shares of two lanes, or of one. */
  onShares: (lanes: [number, number]) => void;
  onDrop: (network: string, at: At) => void;
  onDetail: (step: number) => void;
  onWidth: (width: number) => void;
  jumper: Ref<Jumper>;
};

/** Brings a place into view, and the keys to it. */
export interface Jumper {
  to: (at: At) => void;
  /** Brings a point into view, if it is not. */
  show: (point: Point) => void;
}

/** The plane of lanes and columns: scrolled, dragged, or walked over with the arrow keys. */
export function Plane(props: Props) {
  const { plan, at, onMove, onOpen, onDetail } = props;
  const scroller = useRef<HTMLDivElement>(null);
  useImperativeHandle(props.jumper, () => ({
    to: (place: At) => {
      if (scroller.current) show(scroller.current, plan, place);
      scroller.current?.focus();
    },
    show: (point: Point) => {
      const element = scroller.current;
      if (!element) return;
      const { scrollTop, scrollLeft, clientHeight, clientWidth } = element;
      if (point.y < scrollTop + plan.head || point.y > scrollTop + clientHeight - 30)
        element.scrollTop = point.y - plan.head - clientHeight / 4;
      if (point.x < scrollLeft + plan.side || point.x > scrollLeft + clientWidth - 120)
        element.scrollLeft = point.x - plan.side - 120;
    },
  }));
  const { onWidth } = props;
  useEffect(() => {
    const element = scroller.current;
    if (!element) return;
    const size = new ResizeObserver(() => onWidth(element.clientWidth));
    size.observe(element);
    return () => size.disconnect();
  }, [onWidth]);
  const drag = useRef<{ x: number; y: number; left: number; top: number } | null>(null);

  const onKey = (event: KeyboardEvent) => {
    if ((event.target as HTMLElement).closest("input")) return;
    const next = moved(plan, at, event.key);
    if (next) {
      onMove(next);
      if (scroller.current) show(scroller.current, plan, next);
    } else if (event.key === "Enter" && event.target === event.currentTarget) onOpen(at);
    else if (event.key === "+" || event.key === "=") onDetail(1);
    else if (event.key === "-") onDetail(-1);
    else return;
    event.preventDefault();
  };
  const onDown = (event: PointerEvent<HTMLDivElement>) => {
    const element = scroller.current;
    if (!element || event.button !== 0 || (event.target as HTMLElement).closest("button, input, a")) return;
    drag.current = { x: event.clientX, y: event.clientY, left: element.scrollLeft, top: element.scrollTop };
  };
  const onPan = (event: PointerEvent) => {
    const from = drag.current;
    if (!from) return;
    if (event.buttons === 0) {
      drag.current = null;
      return;
    }
    scroller.current?.scrollTo(from.left - (event.clientX - from.x), from.top - (event.clientY - from.y));
  };
  return (
    <div
      ref={scroller}
      role="group"
      aria-label="Lanes"
      aria-activedescendant="lanes-at"
      tabIndex={0}
      onKeyDown={onKey}
      onPointerDown={onDown}
      onPointerMove={onPan}
      onPointerUp={() => (drag.current = null)}
      className="group/plane relative min-h-0 flex-1 overflow-auto outline-offset-[-3px]"
    >
      <div className="relative" style={{ width: plan.width, height: plan.height }}>
        <Inner {...props} scroller={scroller} />
        <Cursor plan={plan} at={at} />
      </div>
    </div>
  );
}

const Inner = memo(function Inner(props: Props & { scroller: RefObject<HTMLDivElement | null> }) {
  const { plan, told, unforced, course, scroller } = props;
  const window = useWindow(scroller, plan);
  const cells = useMemo(() => {
    const out = [];
    for (let lane = window.lanes[0]; lane <= window.lanes[1]; lane++) {
      for (let column = window.columns[0]; column <= window.columns[1]; column++) out.push({ lane, column });
    }
    return out;
  }, [window]);
  return (
    <>
      {plan.lanes.map(
        (lane, i) =>
          i % 2 === 0 && (
            <div
              key={lane.name}
              className="absolute left-0 bg-sheet"
              style={{ top: lane.top, height: lane.height, width: plan.width }}
            />
          ),
      )}
      <Drawing
        plan={plan}
        told={told}
        window={window}
        course={course}
        lit={props.lit}
        scope={props.scope}
        onShares={props.onShares}
      />
      <HubHeads
        plan={plan}
        told={told}
        unforced={unforced.hubs}
        window={window}
        scope={props.scope}
        onHub={props.onHub}
      />
      <LaneHeads
        plan={plan}
        window={window}
        scope={props.scope}
        onLane={props.onLane}
        onShares={(lane) => props.onShares([lane, lane])}
      />
      {cells.map(({ lane, column }) => (
        <CellView
          key={cellKey(lane, column)}
          plan={plan}
          told={told}
          unforced={unforced}
          lane={lane}
          column={column}
          lit={props.lit}
          scope={props.scope}
          onOpen={props.onOpen}
          onNetwork={props.onNetwork}
          onDrop={props.onDrop}
        />
      ))}
    </>
  );
});

/** The frame around the place that the keys are at. */
function Cursor({ plan, at }: { plan: Plan; at: At }) {
  const lane = plan.lanes[at.lane];
  const column = plan.columns[at.column];
  if (!lane || !column) return null;
  return (
    <div
      id="lanes-at"
      role="img"
      aria-label={`${lane.name} at ${column.hub?.name ?? "no hub"}`}
      className="pointer-events-none absolute hidden rounded border-2 border-accent group-focus-visible/plane:block"
      style={{
        left: column.left + 1,
        top: lane.top + 1,
        width: column.width - 2,
        height: lane.height - 2,
      }}
    />
  );
}

function moved(plan: Plan, at: At, key: string): At | null {
  const lane = (n: number) => Math.max(0, Math.min(plan.lanes.length - 1, n));
  const column = (n: number) => Math.max(0, Math.min(plan.columns.length - 1, n));
  switch (key) {
    case "ArrowUp":
      return { ...at, lane: lane(at.lane - 1) };
    case "ArrowDown":
      return { ...at, lane: lane(at.lane + 1) };
    case "ArrowLeft":
      return { ...at, column: column(at.column - 1) };
    case "ArrowRight":
      return { ...at, column: column(at.column + 1) };
    case "PageUp":
      return { ...at, lane: lane(at.lane - 8) };
    case "PageDown":
      return { ...at, lane: lane(at.lane + 8) };
    case "Home":
      return { ...at, column: 0 };
    case "End":
      return { ...at, column: plan.columns.length - 1 };
  }
  return null;
}

/** Scrolls as little as it takes for a place to stand clear of the heads. */
function show(scroller: HTMLElement, plan: Plan, at: At) {
  const lane = plan.lanes[at.lane];
  const column = plan.columns[at.column];
  if (!lane || !column) return;
  const { clientHeight, clientWidth } = scroller;
  scroller.scrollTop = Math.min(
    lane.top - plan.head,
    Math.max(scroller.scrollTop, lane.top + lane.height - clientHeight),
  );
  scroller.scrollLeft = Math.min(
    column.left - plan.side,
    Math.max(scroller.scrollLeft, node(plan, 0, at.column).x + plan.sizes.column - clientWidth),
  );
}
