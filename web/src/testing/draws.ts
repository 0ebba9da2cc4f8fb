/** Draws that a seed tells all of, so that what fails can be drawn again (mulberry32). */
export function draws(seed: number) {
  let state = seed >>> 0;
  const unit = () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
  const below = (n: number) => Math.floor(unit() * n);
  return {
    below,
    chance: (p: number) => unit() < p,
    one: <T>(list: readonly T[]): T => {
      if (list.length === 0) throw new Error("nothing to draw from");
      return list[below(list.length)] as T;
    },
  };
}
