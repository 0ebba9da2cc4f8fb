import { useMutation, useQuery } from "@tanstack/react-query";
import { applyingQuery, sendPacket } from "../api/plans";
import type { PacketAsked } from "../api/plans";
import { meQuery } from "../api/people";
import { useWhere } from "../frame/where";
import { problemText } from "../parts/ConsequenceView";
import { PacketView } from "./PacketView";

/** Has a test packet of the flow sent, and lays what came of it beside what was predicted. */
export function TryIt({ asked }: { asked: PacketAsked }) {
  const w = useWhere();
  const me = useQuery(meQuery);
  const applying = useQuery(applyingQuery);
  const send = useMutation({ mutationFn: () => sendPacket(packetOf(asked)) });
  if (w.kind !== "applied" || !me.data?.roles.includes("engineer")) return null;
  if (!applying.data || applying.data.state === "unconnected") return null;
  return (
    <section aria-label="Try it" className="border-t border-line px-5 py-3 text-[13px]">
      <button
        className="font-semibold text-accent hover:underline disabled:opacity-50"
        disabled={send.isPending}
        onClick={() => send.mutate()}
      >
        {send.isPending ? "Sending a packet…" : send.data ? "Send another packet" : "Try it with a packet"}
      </button>
      {send.error && (
        <p role="alert" className="pt-1 text-denied">
          {problemText(send.error)}
        </p>
      )}
      {send.data && <PacketView r={send.data} />}
    </section>
  );
}

const packetOf = (a: PacketAsked): PacketAsked => ({
  from: a.from,
  to: a.to,
  on: a.on,
  ...(a.sport && { sport: a.sport }),
  ...(a.publication && { publication: a.publication }),
});
