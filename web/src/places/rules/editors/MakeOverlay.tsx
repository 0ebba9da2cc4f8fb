import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { FormEvent } from "react";
import type { Schemas } from "../../../api/client";
import { membersQuery } from "../../../api/queries";
import { Button, Field } from "../../../parts/fields";
import { Overlay } from "../../../parts/Overlay";
import { useDebounced } from "../../../parts/useDebounced";
import { counted } from "../../../parts/wording";
import { useSelectorProblem } from "./GroupEditor";

interface Props {
  kind: "group" | "service";
  name: string;
  onClose: () => void;
  onMade: (object: Schemas["Group"] | Schemas["Service"]) => void;
}

/** A group or service that a sentence needs and that is not there yet: it is added along with what is being written. */
export function MakeOverlay({ kind, name, onClose, onMade }: Props) {
  const [text, setText] = useState("");
  const group = kind === "group";
  const wrong = useSelectorProblem(group ? text : "");
  const members = useQuery(membersQuery(useDebounced(group ? text : "", 120)));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    event.stopPropagation();
    const terms = text
      .split(",")
      .map((t) => t.trim())
      .filter(Boolean);
    onMade(group ? { name, match: text } : { name, terms });
  };
  return (
    <Overlay title={`New ${kind} ${name}`} onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label={group ? "Labels of its members" : "Protocols and ports"}
          value={text}
          hint={
            group
              ? "app=portal, env in (prod, test), !legacy: all must match, separated by commas"
              : "tcp/443, udp/53, icmp: any of them, separated by commas"
          }
          problem={wrong}
          spellCheck={false}
          onChange={(event) => setText(event.target.value)}
        />
        {group && text !== "" && !wrong && members.data && (
          <p className="text-[13px]" data-testid="members">
            {counted(members.data.count, "workload")}
            <span className="text-soft">
              {members.data.some.length > 0 && `: ${members.data.some.slice(0, 8).join(", ")}`}
              {members.data.count > 8 && " …"}
            </span>
          </p>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={text.trim() === "" || wrong !== undefined}>
            Add {kind}
          </Button>
        </div>
      </form>
    </Overlay>
  );
}
