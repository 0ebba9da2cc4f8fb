import type { Schemas } from "../../api/client";
import { afterFork, box, contestedFork, shapes, strokes } from "./geometry";
import type { Ink } from "./ink";

/** The room that marks are drawn into, and how high each is, in pixels. */
export interface Room {
  width: number;
  height: number;
  size: number;
}

const pictures = new Map<string, HTMLCanvasElement>();

/** A picture of the marks of a cell, in the middle of its room; the same one for the same cells. */
export function picture(marks: Schemas["Mark"][], room: Room, ink: Ink): HTMLCanvasElement {
  const key = JSON.stringify([marks, room, ink.key]);
  let image = pictures.get(key);
  if (image === undefined) {
    image = draw(marks, room, ink);
    pictures.set(key, image);
  }
  return image;
}

/** Marks in lines, with what there is no room for counted in place of the last. */
export function arrange(count: number, { width, height, size }: Room) {
  const markWidth = (size * box.width) / box.height;
  const gap = width < 60 ? { x: 3, y: 3 } : { x: 6, y: 2 };
  const across = Math.max(1, Math.floor((width - 2 + gap.x) / (markWidth + gap.x)));
  const down = Math.max(1, Math.floor((height - 2 + gap.y) / (size + gap.y)));
  const rest = count > across * down ? count - across * down + 1 : 0;
  const places = rest > 0 ? across * down : count;
  const lines = Math.ceil(places / across);
  const top = (height - lines * size - (lines - 1) * gap.y) / 2;
  const at = Array.from({ length: places }, (_, i) => {
    const line = Math.floor(i / across);
    const onLine = Math.min(across, places - line * across);
    const left = (width - onLine * markWidth - (onLine - 1) * gap.x) / 2;
    return { x: left + (i % across) * (markWidth + gap.x), y: top + line * (size + gap.y) };
  });
  return { at, rest, markWidth };
}

function draw(marks: Schemas["Mark"][], room: Room, ink: Ink): HTMLCanvasElement {
  const { at, rest, markWidth } = arrange(marks.length, room);
  const canvas = document.createElement("canvas");
  canvas.width = Math.round(room.width * ink.density);
  canvas.height = Math.round(room.height * ink.density);
  const on = canvas.getContext("2d");
  if (!on) return canvas;
  on.scale(canvas.width / room.width, canvas.height / room.height);
  on.lineCap = "round";
  on.lineJoin = "round";
  at.forEach(({ x, y }, i) => {
    const mark = marks[i];
    on.save();
    on.translate(x, y);
    if (rest > 0 && i === at.length - 1) {
      on.fillStyle = ink.colour("soft");
      on.font = '10px "Atkinson Hyperlegible Mono", monospace';
      on.textAlign = "center";
      on.textBaseline = "middle";
      on.fillText(`+${rest}`, markWidth / 2, room.size / 2);
    } else if (mark) {
      on.scale(room.size / box.height, room.size / box.height);
      on.strokeStyle = ink.colour(mark.outcome);
      stroke(on, mark);
    }
    on.restore();
  });
  return canvas;
}

function stroke(on: CanvasRenderingContext2D, { outcome, contested }: Schemas["Mark"]) {
  const shape = shapes[outcome];
  const path = new Path2D(contested ? afterFork(shape.strokes) : shape.strokes);
  if (shape.ring) {
    const ring = new Path2D();
    ring.arc(shape.ring.x, 7, shape.ring.r, 0, 2 * Math.PI);
    path.addPath(ring);
  }
  on.lineWidth = strokes.line;
  on.stroke(path);
  if (shape.dots) {
    on.lineWidth = strokes.dots;
    on.stroke(new Path2D(shape.dots));
  }
  if (contested) {
    on.lineWidth = strokes.fork;
    on.stroke(new Path2D(contestedFork));
  }
}
