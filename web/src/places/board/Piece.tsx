import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { memo, useLayoutEffect, useRef } from "react";
import type { Schemas } from "../../api/client";
import { cellsQuery, pieceSize } from "../../api/queries";
import { useInk } from "../../parts/marks/ink";
import type { Ink } from "../../parts/marks/ink";
import { picture } from "../../parts/marks/picture";
import { markSize } from "./layout";
import type { Measures } from "./layout";

type Node = Schemas["BoardNode"];

export interface PieceProps {
  revision: number;
  open: string[];
  nodes: Node[];
  row: number;
  col: number;
  m: Measures;
}

/**
 * A square of the board, fetched at once and drawn once as one picture, so that
 * scrolling over millions of cells moves pictures and nothing else. What can be
 * read aloud or pointed at is the cell that lies over it: see Over.
 */
export const Piece = memo(function Piece({ revision, open, nodes, row, col, m }: PieceProps) {
  const cells = useQuery({ ...cellsQuery(open, revision, row, col), placeholderData: keepPreviousData }).data;
  const ink = useInk();
  const canvas = useRef<HTMLCanvasElement>(null);
  const width = Math.min(pieceSize, nodes.length - col) * m.column;
  const height = Math.min(pieceSize, nodes.length - row) * m.row;
  useLayoutEffect(() => {
    if (canvas.current) drawPiece(canvas.current, { nodes, row, col, m, width, height }, cells, ink);
  }, [nodes, row, col, m, width, height, cells, ink]);
  return (
    <canvas
      ref={canvas}
      aria-hidden
      data-piece={cells ? "drawn" : "waiting"}
      className="pointer-events-none absolute"
      style={{ top: m.head + row * m.row, left: m.side + col * m.column, width, height }}
    />
  );
});

interface Square {
  nodes: Node[];
  row: number;
  col: number;
  m: Measures;
  width: number;
  height: number;
}

function drawPiece(canvas: HTMLCanvasElement, piece: Square, cells: Schemas["Cells"] | undefined, ink: Ink) {
  const { nodes, row, col, m, width, height } = piece;
  canvas.width = Math.round(width * ink.density);
  canvas.height = Math.round(height * ink.density);
  const on = canvas.getContext("2d");
  if (!on) return;
  on.scale(canvas.width / width, canvas.height / height);
  const across = width / m.column;
  const down = height / m.row;
  on.fillStyle = ink.colour("sheet");
  for (let r = 0; r < down; r++) if (wide(nodes[row + r])) on.fillRect(0, r * m.row, width, m.row);
  for (let c = 0; c < across; c++)
    if (nodes[col + c]?.kind === "segment") on.fillRect(c * m.column, 0, m.column, height);
  on.fillStyle = ink.colour("line");
  for (let r = 1; r <= down; r++) on.fillRect(0, r * m.row - 1, width, 1);
  for (let c = 1; c <= across; c++) on.fillRect(c * m.column - 1, 0, 1, height);
  const looks = cells?.looks.map((marks) =>
    picture(marks, { width: m.column, height: m.row - m.words, size: markSize(m, marks.length) }, ink),
  );
  for (let r = 0; r < down; r++) {
    for (let c = 0; c < across; c++) {
      const look = looks?.[cells?.cells[r]?.[c] ?? -1];
      if (look) on.drawImage(look, c * m.column, r * m.row, m.column, m.row - m.words);
      else on.fillRect((c + 0.5) * m.column - 2, (r + 0.5) * m.row - 2, 4, 4); // not there yet
      const passes = cells?.passes[r]?.[c];
      if (m.words > 0 && passes)
        drawWords(
          on,
          passes,
          { x: c * m.column, y: r * m.row + (m.row - m.words + m.mark) / 2 + 20 },
          m,
          ink,
        );
    }
  }
}

/** Which services are delivered, below the marks of a cell; cut where there is no room. */
function drawWords(
  on: CanvasRenderingContext2D,
  words: string,
  at: { x: number; y: number },
  m: Measures,
  ink: Ink,
) {
  on.save();
  on.fillStyle = ink.colour("soft");
  on.font = '12px "Atkinson Hyperlegible Next", sans-serif';
  on.textAlign = "center";
  on.textBaseline = "alphabetic";
  let text = words;
  while (text.length > 1 && on.measureText(text).width > m.column - 16)
    text = `${text.slice(0, text.endsWith("…") ? -2 : -1)}…`;
  on.fillText(text, at.x + m.column / 2, at.y);
  on.restore();
}

function wide(n: Node | undefined): boolean {
  return n?.kind === "segment" || n?.kind === "internet";
}
