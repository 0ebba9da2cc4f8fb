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

/** Asks for edits that give a flow another outcome; each is told as soon as it is tried. */
export async function suggestions(
  asked: Asked,
  want: Wanted,
  signal: AbortSignal,
  found: (s: Schemas["Suggestion"]) => void,
): Promise<void> {
  const query = new URLSearchParams({ ...whereQuery(), from: asked.from, to: asked.to, on: asked.on, want });
  if (asked.sport) query.set("sport", String(asked.sport));
  if (asked.publication) query.set("publication", asked.publication);
  const response = await fetch(`/api/suggest?${query}`, { signal });
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
