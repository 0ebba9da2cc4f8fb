import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { Consequence } from "../../parts/Consequence";
import { Field } from "../../parts/fields";
import { Overlay } from "../../parts/Overlay";
import { addressOf, kinds } from "./kinds";
import type { RuleKind } from "./kinds";

interface Props {
  kind: RuleKind;
  name: string;
  onClose: () => void;
}

/** Gives an object another name; all that refers to it follows. */
export function RenameOverlay({ kind, name, onClose }: Props) {
  const [to, setTo] = useState(name);
  const navigate = useNavigate();
  const { search } = useLocation();
  const edit = to === name || to === "" ? {} : { operations: [{ op: "rename" as const, kind, name, to }] };
  return (
    <Overlay title={`Rename ${kinds[kind].one} ${name}`} onClose={onClose}>
      <Field
        label="New name"
        value={to}
        spellCheck={false}
        hint="Everything that refers to it follows."
        onChange={(event) => setTo(event.target.value)}
      />
      <Consequence
        edit={edit}
        verb="Rename"
        onDone={() => {
          onClose();
          void navigate({ pathname: addressOf(kind, to), search }, { replace: true });
        }}
      />
    </Overlay>
  );
}
