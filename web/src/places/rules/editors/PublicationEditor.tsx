import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import type { EditorProps } from "./Editor";
import { Line, Problem, Sentence, ServicesField, SideField, TextField } from "./parts";

type Publication = Schemas["Publication"];

/** A publication: a public address, what it stands for, and on which services. */
export function PublicationEditor({
  object: p,
  rules,
  problemAt,
  onWrite,
  onMake,
}: EditorProps<Publication>) {
  const exit = rules.exits.find((x) => x.name === p.exit);
  return (
    <>
      <Sentence>
        <Line word="Publish">
          <TextField
            label="Public address"
            value={p.address}
            placeholder="203.0.113.10"
            problem={problemAt("address")}
            onChange={(address) => onWrite({ ...p, address })}
          />
        </Line>
        <Line word="at exit">
          <Choose
            label="Exit"
            value={p.exit}
            values={rules.exits.map((x) => x.name)}
            placeholder="exit"
            onChange={(name) => onWrite({ ...p, exit: name })}
          />
        </Line>
        <Line word="for">
          <ServicesField
            id="services"
            label="services"
            value={p.services}
            at="services"
            rules={rules}
            problemAt={problemAt}
            onChange={(services) => onWrite({ ...p, services })}
            onMake={onMake}
          />
        </Line>
        <Line word="to">
          <SideField
            id="groups-to"
            label="groups that are reached"
            value={p.to.groups}
            any="the whole segment"
            at="to.groups"
            rules={rules}
            problemAt={problemAt}
            onChange={(groups) => onWrite({ ...p, to: { ...p.to, groups } })}
            onMake={onMake}
          />
        </Line>
        <Line word="of segment">
          <Choose
            label="Segment"
            value={p.to.segment}
            values={exit ? exit.segments : rules.segments.map((s) => s.name)}
            placeholder="segment"
            onChange={(segment) => onWrite({ ...p, to: { ...p.to, segment } })}
          />
        </Line>
      </Sentence>
      <Problem at={["exit", "to.segment", "to", "services"]} problemAt={problemAt} />
      <p className="mt-4 text-[13px] text-soft">
        A publication gives the internet a way in. Whether a flow passes is decided by policies from the
        internet to these groups.
      </p>
    </>
  );
}
