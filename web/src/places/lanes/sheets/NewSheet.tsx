import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { accountsQuery } from "../../../api/queries";
import type { WiringEdit } from "../../../api/queries";
import { useSelection } from "../../../frame/selection";
import { Field, Choice } from "../../../parts/fields";
import { Consequence } from "../../../parts/Consequence";
import type { Estate } from "../estate";
import { Part, Sheet } from "./Sheet";

/** A new segment or hub, and those that may go. */
export function NewSheet({ estate }: { estate: Estate }) {
  const { select } = useSelection();
  const done = () => select({ kind: "nothing" }, true);
  return (
    <Sheet title="Segments and hubs" under="where networks are placed">
      <Part title="New segment">
        <NewThing kind="segment" onDone={done} />
        <Drop what="segment" names={estate.segments.map((s) => s.name)} />
      </Part>
      <Part title="New hub">
        <NewThing kind="hub" onDone={done} />
        <Drop what="hub" names={estate.hubs.map((h) => h.name)} />
      </Part>
    </Sheet>
  );
}

function NewThing({ kind, onDone }: { kind: "segment" | "hub"; onDone: () => void }) {
  const accounts = useQuery(accountsQuery);
  const [name, setName] = useState("");
  const [account, setAccount] = useState("");
  const [region, setRegion] = useState("");
  const edits = useMemo((): WiringEdit[] => {
    if (name === "") return [];
    if (kind === "segment") return [{ op: "add-segment", name }];
    return [{ op: "add-hub", name, ...(account ? { account } : {}), ...(region ? { region } : {}) }];
  }, [kind, name, account, region]);
  return (
    <>
      <Field label={`Name of the ${kind}`} value={name} onChange={(e) => setName(e.target.value)} />
      {kind === "hub" && (
        <div className="flex items-end gap-2 pt-1">
          <Choice
            label="Account of the hub"
            value={account}
            options={[
              ["", "no account"],
              ...(accounts.data?.accounts ?? []).map((a) => [a.name, a.name] as const),
            ]}
            onChange={setAccount}
          />
          <Field label="Region" value={region} onChange={(e) => setRegion(e.target.value)} />
        </div>
      )}
      <Consequence edit={{ wiring: edits }} verb={`Add ${kind}`} onDone={onDone} />
    </>
  );
}

/** Takes a segment or hub away that nothing names any more. */
function Drop({ what, names }: { what: "segment" | "hub"; names: string[] }) {
  const [name, setName] = useState("");
  const edits = useMemo(
    (): WiringEdit[] => (name === "" ? [] : [{ op: what === "hub" ? "drop-hub" : "drop-segment", name }]),
    [what, name],
  );
  if (names.length === 0) return null;
  return (
    <div className="pt-2">
      <Choice
        label={`Remove a ${what}`}
        value={name}
        options={[["", `remove a ${what}…`], ...[...names].sort().map((n) => [n, n] as const)]}
        onChange={setName}
      />
      <Consequence edit={{ wiring: edits }} verb={`Remove ${name}`} onDone={() => setName("")} />
    </div>
  );
}
