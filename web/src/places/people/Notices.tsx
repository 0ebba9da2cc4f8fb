import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { ApiProblem } from "../../api/client";
import {
  noticeSettingsQuery,
  noticesQuery,
  putNoticeSettings,
  seeNotices,
  testNotices,
} from "../../api/notices";
import type { Notice, NoticeSettings } from "../../api/notices";
import { Button, Field } from "../../parts/fields";
import { moment } from "../../parts/wording";

/** What one should know, and where one wants to be told. */
export function Notices() {
  const notices = useQuery(noticesQuery);
  const settings = useQuery(noticeSettingsQuery);
  return (
    <div className="grid max-w-[72rem] grid-cols-[1fr_22rem] gap-12 pt-4 max-[900px]:grid-cols-1">
      <section aria-label="Notifications">
        <h2 className="pb-1 font-serif text-[17px] font-semibold">Notifications</h2>
        {notices.data && <List list={notices.data.notices} />}
      </section>
      {settings.data && <Form key={JSON.stringify(settings.data)} settings={settings.data} />}
    </div>
  );
}

function List({ list }: { list: Notice[] }) {
  const queries = useQueryClient();
  const last = list.find((n) => !n.seen)?.id ?? 0;
  useEffect(() => {
    if (last === 0) return;
    const timer = setTimeout(() => {
      void seeNotices(last).then(() => queries.invalidateQueries({ queryKey: ["notices"], exact: true }));
    }, 2000);
    return () => clearTimeout(timer);
  }, [last, queries]);
  if (list.length === 0) return <p>There are none.</p>;
  return (
    <ul>
      {list.map((n) => (
        <li key={n.id} className="border-t border-line py-2" data-seen={n.seen}>
          <p className={n.seen ? "" : "font-semibold"}>
            {n.link ? (
              <Link to={n.link} className="text-accent hover:underline">
                {n.subject}
              </Link>
            ) : (
              n.subject
            )}
          </p>
          <p className="text-[13px] text-soft">
            {n.body} {moment(n.at)}
          </p>
        </li>
      ))}
    </ul>
  );
}

const kinds: [NoticeSettings["kinds"][number], string][] = [
  ["approval", "a draft waits for my approval"],
  ["draft", "my draft is approved or applied"],
  ["failed", "something cannot be written, or went back"],
  ["waits", "a plan waits for a person to start it"],
  ["drift", "an account holds something else than intended, or cannot be read"],
  ["days", "a rule runs out, has run out or is to be reviewed"],
];

function Form({ settings }: { settings: NoticeSettings }) {
  const queries = useQueryClient();
  const [email, setEmail] = useState(settings.email);
  const [webhook, setWebhook] = useState(settings.webhook);
  const [wanted, setWanted] = useState(settings.kinds);
  const save = useMutation({
    mutationFn: () => putNoticeSettings({ email, webhook, kinds: wanted }),
    onSuccess: (s) => queries.setQueryData(noticeSettingsQuery.queryKey, s),
  });
  const test = useMutation({ mutationFn: testNotices });
  const at = (field: string) => (save.error instanceof ApiProblem ? save.error.at(field) : undefined);
  return (
    <form
      aria-label="Notification settings"
      className="flex flex-col gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <h2 className="font-serif text-[17px] font-semibold">Also tell me</h2>
      <Field
        label="By e-mail"
        hint={settings.sendMail ? undefined : "This server has no mail server, so it sends no e-mail."}
        value={email}
        problem={at("email")}
        onChange={(e) => setEmail(e.target.value)}
      />
      <Field
        label="By webhook"
        hint="Each is posted as JSON, and signed."
        value={webhook}
        problem={at("webhook")}
        onChange={(e) => setWebhook(e.target.value)}
      />
      {settings.key && (
        <p className="text-[13px] text-soft">
          Bivium-Signature is the HMAC-SHA-256 of the body, by the key{" "}
          <code className="break-all text-ink">{settings.key}</code>.
        </p>
      )}
      <fieldset>
        <legend className="pb-1 text-[13px] text-soft">When</legend>
        {kinds.map(([kind, words]) => (
          <label key={kind} className="flex items-center gap-2 py-0.5">
            <input
              type="checkbox"
              checked={wanted.includes(kind)}
              onChange={(e) =>
                setWanted(e.target.checked ? [...wanted, kind] : wanted.filter((k) => k !== kind))
              }
            />
            {words}
          </label>
        ))}
      </fieldset>
      <div className="flex gap-2">
        <Button main type="submit" disabled={save.isPending}>
          Save
        </Button>
        <Button disabled={test.isPending} onClick={() => test.mutate()}>
          Send a test
        </Button>
      </div>
      {save.isSuccess && <p className="text-[13px] text-soft">Saved.</p>}
    </form>
  );
}
