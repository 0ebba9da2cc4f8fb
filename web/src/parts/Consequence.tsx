import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import { useMay } from "../api/people";
import { estateQuery, everything, postEdit, tryQuery } from "../api/queries";
import type { EstateEdit } from "../api/queries";
import { ConsequenceView, KeepAnyway, problemText } from "./ConsequenceView";
import { Button } from "./fields";
import { useSettled } from "./useDebounced";

interface Props {
  edit: EstateEdit;
  /** What the button says. */
  verb: string;
  onDone: () => void;
  /** Takes up a fix of a refusal. */
  onRemedy?: (way: Schemas["Remedy"]) => void;
  /** Takes along what refers to a thing that is deleted. */
  onAlong?: (edit: EstateEdit) => void;
  /** Keeps the button in sight where the rest scrolls. */
  pinned?: boolean;
}

/** What an edit would do, tried as soon as it rests; and the button that makes it. */
export function Consequence({ edit, verb, onDone, onRemedy, onAlong, pinned }: Props) {
  const queries = useQueryClient();
  const may = useMay("engineer");
  const text = JSON.stringify(edit);
  const settled = useSettled(text, 120);
  const estate = useQuery(estateQuery);
  const tried = useQuery(tryQuery(JSON.parse(settled) as EstateEdit));
  const make = useMutation({
    mutationFn: () => postEdit(edit, estate.data?.revision ?? 0),
    onSuccess: async () => {
      onDone();
      await queries.invalidateQueries({ queryKey: everything });
    },
  });
  if (!edit.operations?.length && !edit.wiring?.length) return null;
  const fresh = settled === text ? tried.data : undefined;
  const able = fresh !== undefined && fresh.refused.length === 0 && fresh.inUse === null;
  const error = make.error ?? tried.error;
  return (
    <div data-testid="consequence" className="text-[13px]">
      {!fresh && !error && <p className="py-2 text-soft">Computing the changes…</p>}
      {error && (
        <p role="alert" className="py-2 text-denied">
          {problemText(error)}
        </p>
      )}
      {fresh && <ConsequenceView consequence={fresh} onRemedy={onRemedy} onAlong={onAlong} />}
      <div className={`flex justify-end gap-2 pt-2 ${pinned ? "sticky bottom-0 bg-sheet pb-2" : ""}`}>
        {!may && <span className="mr-3 self-center text-soft">Only engineers can save this.</span>}
        {fresh && may && !make.isPending && <KeepAnyway consequence={fresh} onKeep={() => make.mutate()} />}
        <Button main disabled={!able || !may || make.isPending} onClick={() => make.mutate()}>
          {verb}
        </Button>
      </div>
    </div>
  );
}
