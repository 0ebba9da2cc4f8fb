import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { everything } from "../api/queries";
import type { Where } from "./where";
import { whereKey } from "./where";

/** Somebody who looks at the same draft, and the object that they have open. */
export interface Present {
  name: string;
  called: string;
  open: string;
}

interface Event {
  kind: "estate" | "drafts" | "draft" | "presence" | "targets" | "notices";
  draft?: number;
  present?: Present[];
}

/** Asks anew for what others change, and tells who looks at the same draft. */
export function useEvents(w: Where): Present[] {
  const queries = useQueryClient();
  const [present, setPresent] = useState<Present[]>([]);
  const key = whereKey(w);
  const draft = w.kind === "draft" ? w.id : 0;
  useEffect(() => {
    const source = new EventSource(`/api/events${draft ? `?draft=${draft}` : ""}`);
    let opened = false;
    source.onopen = () => {
      // Events before the stream was open, or while it was interrupted, did not arrive here.
      void queries.invalidateQueries({
        queryKey: ["applying"],
        predicate: (q) => q.queryKey[1] !== "preview",
      });
      if (opened) void queries.invalidateQueries({ queryKey: everything });
      opened = true;
    };
    source.onmessage = (message: MessageEvent<string>) => {
      const event = JSON.parse(message.data) as Event;
      if (event.kind === "presence") {
        setPresent(event.present ?? []);
        return;
      }
      if (event.kind === "targets" || event.kind === "estate")
        void queries.invalidateQueries({
          queryKey: ["applying"],
          predicate: (q) => q.queryKey[1] !== "preview",
        });
      if (event.kind === "notices") void queries.invalidateQueries({ queryKey: ["notices"], exact: true });
      if (event.kind === "targets" || event.kind === "notices") return;
      void queries.invalidateQueries({ queryKey: ["drafts"] });
      if (event.kind === "estate") void queries.invalidateQueries({ queryKey: ["revisions"] });
      if (event.kind === "estate" || event.draft === draft)
        void queries.invalidateQueries({ queryKey: everything });
    };
    return () => {
      source.close();
      setPresent([]);
    };
  }, [key, draft, queries]);
  return present;
}
