export interface Line {
  sign: "+" | "-" | " ";
  text: string;
}

/** Two texts line by line: those that both have, and those that one has (longest common subsequence). */
export function linesOf(before: string, after: string): Line[] {
  const a = before === "" ? [] : before.split("\n");
  const b = after === "" ? [] : after.split("\n");
  const length: number[][] = Array.from({ length: a.length + 1 }, () =>
    new Array<number>(b.length + 1).fill(0),
  );
  const at = (i: number, k: number) => length[i]?.[k] ?? 0;
  for (let i = a.length - 1; i >= 0; i--)
    for (let k = b.length - 1; k >= 0; k--) {
      const row = length[i];
      if (row) row[k] = a[i] === b[k] ? at(i + 1, k + 1) + 1 : Math.max(at(i + 1, k), at(i, k + 1));
    }
  const out: Line[] = [];
  let i = 0;
  let k = 0;
  while (i < a.length || k < b.length) {
    if (i < a.length && k < b.length && a[i] === b[k]) {
      out.push({ sign: " ", text: a[i] ?? "" });
      i++;
      k++;
    } else if (i < a.length && (k >= b.length || at(i + 1, k) >= at(i, k + 1))) {
      out.push({ sign: "-", text: a[i++] ?? "" });
    } else {
      out.push({ sign: "+", text: b[k++] ?? "" });
    }
  }
  return out;
}
