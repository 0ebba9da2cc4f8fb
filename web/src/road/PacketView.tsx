import type { PacketResult } from "../api/plans";
import { capital, moment } from "../parts/wording";

/** What came of one packet, hop by hop, beside what was predicted. */
export function PacketView({ r }: { r: PacketResult }) {
  return (
    <div className="pt-1 text-[13px]" data-testid="packet" data-agrees={r.agrees}>
      <p>
        <strong className={r.agrees ? "text-allowed" : "text-denied"}>
          {r.agrees ? "As predicted" : "Not as predicted"}
        </strong>
        <span className="text-soft">
          {" "}
          · sent {moment(r.sent)}, took {r.took < 1 ? "less than 1" : Math.round(r.took)} ms
        </span>
      </p>
      <dl className="grid grid-cols-[5.5rem_1fr] pt-1">
        <dt className="text-soft">Predicted</dt>
        <dd>{answerWords(r.predicted.words, r.predicted.delivered, r.predicted.answered)}</dd>
        <dt className="text-soft">The packet</dt>
        <dd>{answerWords(r.words, r.delivered, r.answered && !r.error)}</dd>
        {r.error && (
          <>
            <dt className="text-soft">Sent back</dt>
            <dd>{r.error}</dd>
          </>
        )}
      </dl>
      {r.predicted.stricter && (
        <p className="pt-1 text-blocked">A list stops it because {r.predicted.stricter}.</p>
      )}
      {r.why && <p className="pt-1 text-denied">{capital(r.why)}.</p>}
      <ol className="pt-1.5">
        {r.hops.map((h, i) => (
          <li key={i} className="border-t border-line/60 py-1">
            <span className="text-soft">
              {capital(h.at)} {h.name}
            </span>
            <span className={stops(h.said) ? "text-denied" : ""}>
              {" "}
              {h.said}
              {h.rule > 0 && ` by rule ${h.rule}`}
            </span>
            {h.text && <span className="block font-mono text-xs break-words">{h.text}</span>}
            {h.for.length > 0 && (
              <span className="block text-xs text-soft">
                because of {h.for.map((f) => `${f.kind} ${f.name}`).join(", ")}
              </span>
            )}
          </li>
        ))}
      </ol>
    </div>
  );
}

const stops = (said: string) => ["deny", "drop", "reject"].includes(said) || said.startsWith("no ");

const answerWords = (words: string, delivered: boolean, answered: boolean) =>
  delivered && answered ? `${words}, and answered` : words;
