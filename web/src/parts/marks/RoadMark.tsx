import type { Schemas } from "../../api/client";
import { afterFork, box, contestedFork, markName, shapes } from "./geometry";

/** One road mark; size is its height in pixels. */
export function RoadMark({ mark, size = 14 }: { mark: Schemas["Mark"]; size?: number }) {
  const shape = shapes[mark.outcome];
  return (
    <svg
      role="img"
      aria-label={markName(mark.outcome, mark.contested)}
      data-mark={mark.outcome}
      data-contested={mark.contested || undefined}
      viewBox={`0 0 ${box.width} ${box.height}`}
      width={(size * box.width) / box.height}
      height={size}
      className="inline-block flex-none"
      style={{ color: `var(--${mark.outcome})` }}
      fill="none"
      stroke="currentColor"
      strokeWidth={2.3}
      strokeLinecap="round"
      strokeLinejoin="round"
    >
      <title>{markName(mark.outcome, mark.contested)}</title>
      <path d={mark.contested ? afterFork(shape.strokes) : shape.strokes} />
      {shape.ring && <circle cx={shape.ring.x} cy={7} r={shape.ring.r} />}
      {shape.dots && <path d={shape.dots} strokeWidth={2.8} />}
      {mark.contested && <path d={contestedFork} strokeWidth={1.9} />}
    </svg>
  );
}

const tightRoom = 6;

/** The marks of everything between two ends, widest first. */
export function Marks({
  marks,
  size = 14,
  tight,
}: {
  marks: Schemas["Mark"][];
  size?: number;
  tight?: boolean;
}) {
  // In a tight cell six marks find room; of more, the rest is counted.
  const shown = tight && marks.length > tightRoom ? marks.slice(0, tightRoom - 1) : marks;
  const rest = marks.slice(shown.length);
  return (
    <span
      className={`inline-flex flex-wrap items-center justify-center ${tight ? "gap-x-[3px] gap-y-[3px]" : "gap-x-1.5 gap-y-0.5"}`}
    >
      {shown.map((m) => (
        <RoadMark key={m.outcome + m.contested} mark={m} size={size} />
      ))}
      {rest.length > 0 && (
        <span
          className="font-mono text-[10px] leading-none text-soft"
          title={rest.map((m) => markName(m.outcome, m.contested)).join(", ")}
        >
          +{rest.length}
        </span>
      )}
    </span>
  );
}
