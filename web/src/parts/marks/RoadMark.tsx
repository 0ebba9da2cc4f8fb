import type { Schemas } from "../../api/client";
import { afterFork, box, contestedFork, markName, shapes, strokes } from "./geometry";

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
      strokeWidth={strokes.line}
      strokeLinecap="round"
      strokeLinejoin="round"
    >
      <title>{markName(mark.outcome, mark.contested)}</title>
      <path d={mark.contested ? afterFork(shape.strokes) : shape.strokes} />
      {shape.ring && <circle cx={shape.ring.x} cy={7} r={shape.ring.r} />}
      {shape.dots && <path d={shape.dots} strokeWidth={strokes.dots} />}
      {mark.contested && <path d={contestedFork} strokeWidth={strokes.fork} />}
    </svg>
  );
}

/** The marks of everything between two ends, widest first. */
export function Marks({ marks, size = 14 }: { marks: Schemas["Mark"][]; size?: number }) {
  return (
    <span className="inline-flex flex-wrap items-center justify-center gap-x-1.5 gap-y-0.5">
      {marks.map((m) => (
        <RoadMark key={m.outcome + m.contested} mark={m} size={size} />
      ))}
    </span>
  );
}
