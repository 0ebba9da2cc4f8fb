import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { FormEvent } from "react";
import { ApiProblem } from "../../api/client";
import { everything, membersQuery, postEdit } from "../../api/queries";
import { Button, Field } from "../../parts/fields";
import { Overlay } from "../../parts/Overlay";
import { useDebounced } from "../../parts/useDebounced";
import { counted } from "../../parts/wording";

interface Props {
  revision: number;
  match: string;
  onClose: () => void;
}

/** Where the server says what is wrong with the new group. */
const object = "operations[0].object";

/** A new group by labels, with who would be in it. */
export function GroupOverlay({ revision, match: first, onClose }: Props) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [match, setMatch] = useState(first);
  const members = useQuery(membersQuery(useDebounced(match, 120)));
  const save = useMutation({
    mutationFn: () =>
      postEdit(
        { operations: [{ op: "put", kind: "group", object: { name, match }, base: "absent" }] },
        revision,
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: everything });
      onClose();
    },
  });
  const problems = save.error instanceof ApiProblem ? save.error : null;
  const unreadable =
    match !== "" && members.error instanceof ApiProblem ? members.error.at("match") : undefined;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate();
  };
  return (
    <Overlay title="New group" onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label="Name"
          name="name"
          value={name}
          problem={problems?.at(`${object}.name`)}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          label="Labels of its members"
          name="match"
          value={match}
          hint="app=portal, env in (prod, test), !legacy: all must match, separated by commas"
          problem={problems?.at(object) ?? unreadable}
          onChange={(e) => setMatch(e.target.value)}
        />
        <div
          className="min-h-[4.5rem] rounded border border-line px-3 py-2 text-[13px]"
          data-testid="members"
        >
          {match === "" || unreadable || !members.data ? (
            <span className="text-soft">Its members are shown here.</span>
          ) : (
            <>
              <p>
                {counted(members.data.count, "workload")}
                <span className="text-soft">
                  ; those that come later with these labels join by themselves
                </span>
              </p>
              <p className="text-soft">
                {members.data.some.join(", ")}
                {members.data.count > members.data.some.length && " …"}
              </p>
            </>
          )}
        </div>
        {save.error && !problems?.problem.problems && (
          <p role="alert" className="text-denied">
            {save.error.message}
          </p>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={save.isPending || unreadable !== undefined}>
            Add group
          </Button>
        </div>
      </form>
    </Overlay>
  );
}
