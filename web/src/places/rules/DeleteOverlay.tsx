import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import type { EstateEdit } from "../../api/queries";
import { Consequence } from "../../parts/Consequence";
import { Overlay } from "../../parts/Overlay";
import { dropDraft } from "./drafts";
import { kinds } from "./kinds";
import type { RuleKind } from "./kinds";
import { WhatIsWritten } from "./WhatIsWritten";

interface Props {
  kind: RuleKind;
  name: string;
  onClose: () => void;
}

/** Deletes an object; where others refer to it, with what refers to it. */
export function DeleteOverlay({ kind, name, onClose }: Props) {
  const [edit, setEdit] = useState<EstateEdit>({ operations: [{ op: "delete", kind, name }] });
  const navigate = useNavigate();
  const { search } = useLocation();
  const others = (edit.operations?.length ?? 1) - 1;
  const what = `${kinds[kind].one} ${name}`;
  return (
    <Overlay title={`Delete ${what}`} wide onClose={onClose}>
      {others > 0 && (
        <div className="pb-1">
          <WhatIsWritten label="What is changed and deleted" operations={edit.operations ?? []} />
        </div>
      )}
      <Consequence
        edit={edit}
        verb={others > 0 ? `Delete ${what} and change ${others} more` : `Delete ${what}`}
        onAlong={setEdit}
        onDone={() => {
          dropDraft(kind, name);
          onClose();
          void navigate({ pathname: "/rules", search });
        }}
      />
    </Overlay>
  );
}
