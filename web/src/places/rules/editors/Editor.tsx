import { useState } from "react";
import type { ComponentType } from "react";
import type { Schemas } from "../../../api/client";
import type { Operation } from "../../../api/queries";
import type { RuleKind, RuleObject, Rules } from "../kinds";
import { ExitEditor } from "./ExitEditor";
import { ExpectationEditor } from "./ExpectationEditor";
import { GroupEditor } from "./GroupEditor";
import { MakeOverlay } from "./MakeOverlay";
import { PolicyEditor } from "./PolicyEditor";
import { PoolEditor } from "./PoolEditor";
import { PublicationEditor } from "./PublicationEditor";
import { RulebookEditor } from "./RulebookEditor";
import { SegmentEditor } from "./SegmentEditor";
import { ServiceEditor } from "./ServiceEditor";
import { ShareEditor } from "./ShareEditor";

export type ProblemAt = (at: string) => Schemas["FieldProblem"] | undefined;

/** What the editor of each kind is given. */
export interface EditorProps<T> {
  object: T;
  /** All objects, with those that are added along. */
  rules: Rules;
  problemAt: ProblemAt;
  onWrite: (object: T) => void;
  /** Makes a group or service in passing, by a name that is not known yet; asks what it is, unless that is said. */
  onMake: (kind: "group" | "service", name: string, made?: Schemas["Group"]) => void;
}

interface Props {
  kind: RuleKind;
  object: RuleObject;
  rules: Rules;
  along: Operation[];
  problemAt: ProblemAt;
  onWrite: (object: RuleObject) => void;
  onAlong: (operation: Operation) => void;
}

/** The editor of one kind, for objects of which the kind alone is known. */
const loosely = <T,>(editor: ComponentType<EditorProps<T>>) =>
  editor as unknown as ComponentType<EditorProps<RuleObject>>;

const editors: Record<RuleKind, ComponentType<EditorProps<RuleObject>>> = {
  policy: loosely(PolicyEditor),
  share: loosely(ShareEditor),
  publication: loosely(PublicationEditor),
  expectation: loosely(ExpectationEditor),
  group: loosely(GroupEditor),
  service: loosely(ServiceEditor),
  pool: loosely(PoolEditor),
  rulebook: loosely(RulebookEditor),
  segment: loosely(SegmentEditor),
  exit: loosely(ExitEditor),
};

/** The editor of an object, by its kind. */
export function Editor({ kind, object, rules, along, problemAt, onWrite, onAlong }: Props) {
  const [making, setMaking] = useState<{ kind: "group" | "service"; name: string } | null>(null);
  const Kind = editors[kind];
  return (
    <div className="mt-4 max-w-[60rem]">
      <Kind
        object={object}
        rules={withAlong(rules, along)}
        problemAt={problemAt}
        onWrite={onWrite}
        onMake={(what, name, made) => {
          if (made) onAlong({ op: "put", kind: what, object: { ...made }, base: "absent" });
          else setMaking({ kind: what, name });
        }}
      />
      {making && (
        <MakeOverlay
          kind={making.kind}
          name={making.name}
          onClose={() => setMaking(null)}
          onMade={(made) => {
            onAlong({ op: "put", kind: making.kind, object: { ...made }, base: "absent" });
            setMaking(null);
          }}
        />
      )}
    </div>
  );
}

function withAlong(rules: Rules, along: Operation[]): Rules {
  const made = (kind: string) => along.filter((o) => o.kind === kind).map((o) => o.object);
  return {
    ...rules,
    groups: [...rules.groups, ...(made("group") as unknown as Schemas["Group"][])],
    services: [...rules.services, ...(made("service") as unknown as Schemas["Service"][])],
  };
}
