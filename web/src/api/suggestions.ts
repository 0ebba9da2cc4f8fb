import { ApiProblem } from "./client";
import type { Schemas } from "./client";
import { whereQuery } from "../frame/where";

/** A flow, as a question that can be asked. */
export interface Asked {
  from: string;
  to: string;
  on: string;
  sport?: number;
  publication?: string;
}

export type Wanted = "allowed" | "inspected" | "denied";

/** What finds suggestions: each is told as soon as it is tried. */
export type Finder = (signal: AbortSignal, found: (s: Schemas["Suggestion"]) => void) => Promise<void>;

/** Asks for edits that give a flow another outcome. */
export function suggestions(asked: Asked, want: Wanted): Finder {
  const query: Record<string, string> = { from: asked.from, to: asked.to, on: asked.on, want };
  if (asked.sport) query["sport"] = String(asked.sport);
  if (asked.publication) query["publication"] = asked.publication;
  return (signal, found) => streamed("/api/suggest", query, signal, found);
}

/** Asks for edits that remove a finding, by its key. */
export function fixes(finding: string): Finder {
  return (signal, found) => streamed("/api/fixes", { finding }, signal, found);
}

async function streamed(
  path: string,
  query: Record<string, string>,
  signal: AbortSignal,
  found: (s: Schemas["Suggestion"]) => void,
): Promise<void> {
  const response = await fetch(`${path}?${new URLSearchParams({ ...whereQuery(), ...query })}`, { signal });
  if (!response.ok || !response.body) {
    throw new ApiProblem((await response.json()) as Schemas["Problem"]);
  }
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const lines = (rest + value).split("\n");
    rest = lines.pop() ?? "";
    for (const line of lines) if (line !== "") found(JSON.parse(line) as Schemas["Suggestion"]);
  }
}
