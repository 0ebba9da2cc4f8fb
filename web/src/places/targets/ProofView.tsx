import { useQuery } from "@tanstack/react-query";
import { Check, TriangleAlert } from "lucide-react";
import { Link, useLocation } from "react-router";
import { estateQuery } from "../../api/queries";
import { proofQuery } from "../../api/targets";
import type { Schemas } from "../../api/client";
import { problemText } from "../../parts/ConsequenceView";
import { counted } from "../../parts/wording";
import { Folded } from "./Lines";

/** Whether the native rules are proven to mean what the estate says, in one line. */
export function ProofLine() {
  const proof = useQuery(proofQuery);
  const estate = useQuery(estateQuery);
  const { search } = useLocation();
  if (proof.error) {
    return (
      <p role="alert" className="pt-4 text-denied">
        {problemText(proof.error)}
      </p>
    );
  }
  if (!proof.data) return <p className="pt-4 text-soft">Proving all flows…</p>;
  const p = proof.data;
  const faults = estate.data?.faults.length ?? 0;
  return (
    <>
      <p className="flex items-center gap-2 pt-4">
        {p.proven ? (
          <Check size={17} className="text-allowed" aria-hidden />
        ) : (
          <TriangleAlert size={17} className="text-denied" aria-hidden />
        )}
        <span className="font-semibold">{verdictOf(p)}</span>
        <Link to={{ pathname: "/targets/proof", search }} className="text-accent hover:underline">
          {p.proven ? "What is stricter" : "Show them"}
        </Link>
      </p>
      {faults > 0 && (
        <p className="pt-1 text-denied">
          {counted(faults, "fault", "faults")} in the estate: what is faulty does nothing, and nothing is
          written for it.{" "}
          <Link to={{ pathname: "/findings", search }} className="text-accent underline">
            Show in Findings
          </Link>
        </p>
      )}
    </>
  );
}

function verdictOf(p: Schemas["NativeProof"]): string {
  if (p.proven) return "Proven for all flows: these rules do what the estate says.";
  const n = counted(p.differences.length, "set of flows has", "sets of flows have");
  return `Not proven: ${n} another outcome than intended.${p.incomplete ? " There are more." : ""}`;
}

const changes: Record<Schemas["NativeDifference"]["change"], [string, string]> = {
  opened: ["Passes, and should not", "text-denied"],
  past: ["Passes without a firewall", "text-denied"],
  closed: ["Does not pass, and should", "text-blocked"],
  others: ["Other firewalls than intended", "text-blocked"],
};

/** All that native rules do otherwise than is meant, each with a flow to look at. */
export function ProofView() {
  const proof = useQuery(proofQuery);
  if (!proof.data) return <ProofLine />;
  const p = proof.data;
  return (
    <>
      <h1 className="font-serif text-[22px] font-semibold">Proof</h1>
      <p className="max-w-prose pt-1 text-soft">
        The native rules are read back, apart from what wrote them, into what happens to the first packet of
        every flow. That is compared with what the estate says, for all addresses, protocols and ports.
      </p>
      <p className="pt-3 font-semibold">{verdictOf(p)}</p>
      {p.differences.map((d, i) => (
        <Difference key={i} d={d} />
      ))}
      {(p.stricter.length > 0 || p.unheld.length > 0) && (
        <h2 className="pt-6 font-semibold">Stricter, because lists cannot tell these apart</h2>
      )}
      <ul>
        {p.unheld.map((u) => (
          <li key={u.network} className="border-b border-line py-1.5">
            Nothing passes to or from <Folded words={u.prefixes} most={2} one="prefix" many="prefixes" /> of{" "}
            {u.network}: {u.why}.
          </li>
        ))}
      </ul>
      {p.stricter.map((d, i) => (
        <Difference key={i} d={d} />
      ))}
    </>
  );
}

export function Difference({ d }: { d: Schemas["NativeDifference"] }) {
  const [words, color] = changes[d.change];
  const { search } = useLocation();
  const params = new URLSearchParams(search);
  params.set("from", d.witness.from);
  params.set("to", d.witness.to);
  params.set("on", d.witness.on);
  params.set("road", "shown");
  return (
    <div className="border-b border-line py-2">
      <p>
        <span className={`font-semibold ${color}`}>{words}</span> <span className="text-soft">{d.from}</span>{" "}
        <Folded words={d.sources} most={3} one="prefix" many="prefixes" />{" "}
        <span className="text-soft">to {d.to}</span>{" "}
        <Folded words={d.destinations} most={3} one="prefix" many="prefixes" />{" "}
        <span className="text-soft">on</span> <Folded words={d.services} most={4} one="service" />
      </p>
      <p className="text-[13px] text-soft">
        Intended: {d.meant}. Found: {d.found}.{d.why && ` Because ${d.why}.`} For example{" "}
        <Link className="text-accent hover:underline" to={`/board?${params}`}>
          {d.witness.source} to {d.witness.destination} on {d.witness.on}
        </Link>
      </p>
    </div>
  );
}
