import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import type { FormEvent } from "react";
import { useMay } from "../../api/people";
import { objectQuery } from "../../api/queries";
import type { Kind } from "../../api/queries";
import type { Schemas } from "../../api/client";
import { Consequence } from "../../parts/Consequence";
import { Button, Label } from "../../parts/fields";

type Labels = Record<string, string>;

const written = /^\s*([^=\s]+)\s*=\s*(.*?)\s*$/;

/**
 * The labels of a workload or network. Those set by hand win over what tags
 * give; each can be taken off. What is changed here is tried at once, and is an
 * edit like any other.
 */
export function LabelsOf({ sheet }: { sheet: Schemas["Sheet"] }) {
  const object = useQuery(objectQuery(sheet.kind as Kind, sheet.name));
  const may = useMay("engineer");
  const [text, setText] = useState("");
  const [next, setNext] = useState<Labels | null>(null);
  const labels = next ?? sheet.labels;
  const edit = (to: Labels) => setNext(same(to, sheet.labels) ? null : to);
  const add = (event: FormEvent) => {
    event.preventDefault();
    const [, key, value] = written.exec(text) ?? [];
    if (key === undefined || value === undefined) return;
    edit({ ...labels, [key]: value });
    setText("");
  };
  return (
    <>
      <p className="flex flex-wrap items-center gap-1">
        {Object.entries(labels).map(([k, v]) => (
          <span key={k} className="flex items-center">
            <Label name={k} value={v} hand={k in sheet.hand || v !== sheet.labels[k]} />
            {may && (
              <button
                aria-label={`Take label ${k} off`}
                className="flex min-h-6 min-w-6 items-center justify-center text-soft hover:text-ink"
                onClick={() => edit(Object.fromEntries(Object.entries(labels).filter(([key]) => key !== k)))}
              >
                <X size={12} aria-hidden />
              </button>
            )}
          </span>
        ))}
      </p>
      {Object.keys(labels).length === 0 && <p className="text-[13px] text-denied">none yet</p>}
      {may && (
        <form onSubmit={add} className="flex gap-2 pt-2 text-[13px]">
          <input
            aria-label="Add label"
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="key=value"
            className="min-w-0 flex-1 rounded border border-line bg-paper px-2 py-0.5 font-mono"
          />
          <Button type="submit" disabled={!written.test(text)}>
            Set
          </Button>
          {next && <Button onClick={() => setNext(null)}>Cancel</Button>}
        </form>
      )}
      {next && object.data && (
        <Consequence
          edit={{
            operations: [
              {
                op: "put",
                kind: sheet.kind as Kind,
                object: { ...object.data.object, labels: next },
                base: object.data.base,
              },
            ],
          }}
          verb="Save labels"
          onDone={() => setNext(null)}
        />
      )}
    </>
  );
}

const same = (a: Labels, b: Labels) =>
  Object.keys(a).length === Object.keys(b).length && Object.entries(a).every(([k, v]) => b[k] === v);
