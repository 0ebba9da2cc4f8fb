import { useQueries } from "@tanstack/react-query";
import { cellsQuery, pieceSize } from "../../api/queries";

type Item = { index: number };

/** The places at which the pieces begin that hold some rows or columns. */
export function piecesOf(items: Item[]): number[] {
  return [...new Set(items.map((i) => i.index - (i.index % pieceSize)))];
}

/**
 * The cells of the board that are on screen, fetched a piece at a time: a board
 * of a large estate has millions. The function returns null for a cell that is
 * not there yet.
 */
export function usePieces(revision: number, open: string[], rows: Item[], cols: Item[]) {
  const starts = piecesOf(rows).flatMap((row) => piecesOf(cols).map((col) => ({ row, col })));
  const pieces = useQueries({
    queries: starts.map(({ row, col }) => cellsQuery(open, revision, row, col)),
    combine: (results) => new Map(results.map((r, i) => [key(starts[i]), r.data])),
  });
  return (row: number, col: number) => {
    const piece = pieces.get(key({ row: row - (row % pieceSize), col: col - (col % pieceSize) }));
    const look = piece?.cells[row - piece.row]?.[col - piece.col];
    return look === undefined ? null : (piece?.looks[look] ?? null);
  };
}

function key(at: { row: number; col: number } | undefined): string {
  return at ? `${at.row},${at.col}` : "";
}
