import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { everything, postFirst, postImport, tryImport } from "../../api/queries";
import { Button } from "../../parts/fields";
import { WhatChanges } from "../../parts/WhatChanges";
import { Overlay } from "../../parts/Overlay";
import { counted } from "../../parts/wording";

/** A document in the place of the estate: first what it would change, then the change. */
export function ImportOverlay({
  revision,
  empty,
  onClose,
}: {
  revision: number;
  empty: boolean;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const look = useMutation({ mutationFn: tryImport });
  const put = useMutation({
    mutationFn: async () => {
      if (empty) await postFirst(text, revision);
      else await postImport(text, revision);
    },
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: everything });
      onClose();
    },
  });
  const choose = async (file: File | undefined) => {
    if (!file) return;
    const read = await file.text();
    setText(read);
    look.mutate(read);
  };
  const problem = put.error ?? look.error;
  return (
    <Overlay title="Import a document" wide onClose={onClose}>
      <p className="text-soft">
        An estate as YAML or JSON. It takes the place of what is here; nothing happens before you have seen
        what that changes.
      </p>
      <input
        type="file"
        aria-label="Document"
        accept=".yaml,.yml,.json"
        onClick={(e) => (e.currentTarget.value = "")} // a file that was mended is chosen again
        onChange={(e) => void choose(e.target.files?.[0])}
        className="my-3 block w-full rounded border border-dashed border-line px-3 py-4 text-[13px] file:mr-3 file:rounded file:border file:border-line file:bg-sheet file:px-3 file:py-1"
      />
      {look.isPending && <p className="text-soft">Reading the document and comparing every flow…</p>}
      {problem && <Problem error={problem} />}
      {look.data && <Difference imported={look.data} />}
      <div className="flex justify-end gap-2 pt-3">
        <Button onClick={onClose}>Cancel</Button>
        <Button main disabled={!look.data || put.isPending} onClick={() => put.mutate()}>
          {put.isPending ? "Replacing…" : "Replace estate"}
        </Button>
      </div>
    </Overlay>
  );
}

function Problem({ error }: { error: Error }) {
  const fields = error instanceof ApiProblem ? (error.problem.problems ?? []) : [];
  if (fields.length === 0) return <p className="text-denied">{error.message}</p>;
  return (
    <>
      <p className="text-denied">The document cannot be read:</p>
      <ul role="alert" className="max-h-56 overflow-y-auto text-[13px]">
        {fields.map((f, i) => (
          <li key={i} className="border-t border-line py-1">
            <span className="font-mono">{f.at}</span>: {f.message}
            {f.fix && <span className="text-soft">; {f.fix}</span>}
          </li>
        ))}
      </ul>
    </>
  );
}

function Difference({ imported }: { imported: Schemas["Import"] }) {
  const lists = Object.entries(imported.counts);
  return (
    <div className="grid grid-cols-2 gap-x-8 text-[13px]" data-testid="import">
      <section>
        <h3 className="pb-1 font-serif text-[16px] font-semibold">Objects</h3>
        {lists.length === 0 && <p className="text-soft">No differences.</p>}
        <table className="w-full">
          <tbody>
            {lists.map(([list, [added, changed, gone]]) => (
              <tr key={list} className="border-t border-line">
                <td className="py-0.5">{list}</td>
                <td className="text-right text-soft">
                  {[added && `${added} added`, changed && `${changed} changed`, gone && `${gone} removed`]
                    .filter(Boolean)
                    .join(", ")}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <h3 className="pt-3 pb-1 font-serif text-[16px] font-semibold">
          {imported.faults.length === 0 ? "No faults" : counted(imported.faults.length, "fault")}
        </h3>
        <ul>
          {imported.faults.slice(0, 20).map((f, i) => (
            <li key={i} className="border-t border-line py-0.5">
              {f.message}
              {f.fix && <span className="text-soft">; {f.fix}</span>}
            </li>
          ))}
        </ul>
      </section>
      <section>
        <h3 className="pb-1 font-serif text-[16px] font-semibold">Flows that change</h3>
        <WhatChanges {...imported.effect} />
      </section>
    </div>
  );
}
