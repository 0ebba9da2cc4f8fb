import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import type { EditorProps } from "./Editor";
import { Line, Sentence, withKey } from "./parts";

type Segment = Schemas["Segment"];

/** A segment: what happens inside it where no policy decides. */
export function SegmentEditor({ object: s, onWrite }: EditorProps<Segment>) {
  return (
    <>
      <Sentence>
        <Line word="Where no policy">
          <span className="flex flex-wrap items-start gap-2">
            <span className="pt-0.5 text-soft italic">decides, flows inside it are</span>
            <Choose
              label="Default"
              bold
              value={s.default === "allow" ? "allowed" : "denied"}
              values={["denied", "allowed"]}
              onChange={(v) => onWrite(withKey(s, "default", v === "allowed" ? "allow" : undefined))}
            />
          </span>
        </Line>
      </Sentence>
      <p className="mt-4 text-[13px] text-soft">
        Networks are placed in segments on Lanes. Between segments nothing passes unless a share says so.
      </p>
    </>
  );
}
