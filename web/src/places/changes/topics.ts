import type { DraftReview } from "../../api/drafts";
import { serviceWords } from "../../parts/wording";

/** What there is to be talked about: the objects that change, and the sets of flows that do. */
export function topicsOf(d: DraftReview): string[] {
  const flows = d.consequence.effect?.flows ?? [];
  return [
    ...new Set([
      ...d.objects.map((o) => topicOf(o.kind, o.name)),
      ...flows.map((f) => `flows ${f.from} → ${f.to}, ${serviceWords(f.services)}`),
    ]),
  ];
}

/** What comments call an object. */
export const topicOf = (kind: string, name: string) => `${kind} ${name}`;
