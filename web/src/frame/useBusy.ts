import { useIsFetching, useIsMutating } from "@tanstack/react-query";
import { useEffect } from "react";

/** Tells on the page itself whether something that it asked the server for is still on its way. */
export function useBusy() {
  const busy = useIsFetching() + useIsMutating() > 0;
  useEffect(() => {
    document.documentElement.dataset.busy = busy ? "yes" : "no";
  }, [busy]);
}
