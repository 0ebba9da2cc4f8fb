import { lookAt } from "../frame/where";
import { Button } from "./fields";

/** Stands where something belongs to the applied estate alone, and a draft is looked at. */
export function AppliedOnly({ what }: { what: string }) {
  return (
    <div className="p-7">
      <p className="pb-3">{what} belong to the applied estate, and are not part of a draft.</p>
      <Button onClick={() => lookAt({ kind: "applied" })}>Show applied estate</Button>
    </div>
  );
}
