import type { Question } from "../api/queries";

const key = "bivium.questions";
const kept = 50;

/** The questions that were asked here, newest first. */
export function askedBefore(): Question[] {
  try {
    const list: unknown = JSON.parse(localStorage.getItem(key) ?? "[]");
    return Array.isArray(list) ? (list as Question[]) : [];
  } catch {
    return [];
  }
}

/** Adds a question to those that were asked; one asked again moves to the front. */
export function remember(q: Question): void {
  const others = askedBefore().filter((o) => o.from !== q.from || o.to !== q.to || o.on !== q.on);
  localStorage.setItem(key, JSON.stringify([q, ...others].slice(0, kept)));
}
