import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { deleteAside, everything, putAside } from "../../api/queries";
import { Button } from "../../parts/fields";

interface Props {
  aside: Schemas["Aside"];
  revision: number;
}

/** A stored thing that cannot be read: it is corrected and saved, or removed. */
export function Repair({ aside, revision }: Props) {
  const queries = useQueryClient();
  const [text, setText] = useState(aside.body);
  const onSuccess = () => queries.invalidateQueries({ queryKey: everything });
  const save = useMutation({ mutationFn: () => putAside(aside.id, text, revision), onSuccess });
  const remove = useMutation({ mutationFn: () => deleteAside(aside.id), onSuccess });
  const error = save.error ?? remove.error;
  const problems = error instanceof ApiProblem ? error.problem.problems : undefined;
  return (
    <form
      className="pt-3 text-[13px]"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <label>
        <span className="text-soft">Stored object, as JSON</span>
        <textarea
          value={text}
          rows={14}
          spellCheck={false}
          onChange={(event) => setText(event.target.value)}
          className="mt-0.5 w-full rounded border border-line bg-paper px-2 py-1.5 font-mono text-xs"
        />
      </label>
      {error && (
        <ul role="alert" className="pb-1 text-denied">
          {problems?.map((p) => (
            <li key={p.at + p.message}>
              {p.at && <span className="font-mono text-xs">{p.at}: </span>}
              {p.message}
              {p.fix && `; ${p.fix}`}
            </li>
          )) ?? <li>{error.message}</li>}
        </ul>
      )}
      <div className="flex justify-end gap-2 pt-1">
        <Button disabled={remove.isPending} onClick={() => remove.mutate()}>
          Remove permanently
        </Button>
        <Button type="submit" main disabled={save.isPending}>
          Save corrected object
        </Button>
      </div>
    </form>
  );
}
