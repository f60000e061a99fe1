import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Input } from "antd";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { useRun, useSession } from "../../api/hooks";
import { Field } from "../../parts/Field";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { RunPath } from "../../parts/RunPath";
import { moment, plural } from "../../words";
import { useForecast } from "./queries";

/** Settle sends trial letters to the catch-all addresses of a run, once a person says so. */
export function Settle() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const forecast = useForecast(id);
  const error = run.error ?? forecast.error;
  if (error) return <Trouble error={error} again={() => void forecast.refetch()} />;
  if (!run.data || !forecast.data) return <Wait for="the forecast" />;
  const f = forecast.data;
  return (
    <>
      <RunPath run={run.data} />
      <h1>Settle catch-all addresses</h1>
      <Sentence>{f.says}</Sentence>
      <p>
        A catch-all host takes mail for any mailbox, so only a message really sent tells. What bounces is undeliverable
        from then on, what does not come back within 72 hours is settled and kept.
      </p>
      {f.leftOut.length > 0 && (
        <ul>
          {f.leftOut.map((l) => (
            <li key={l.why}>
              {plural(l.addresses, "address", "addresses")}, which {l.why}, {l.addresses === 1 ? "gets" : "get"} none.
            </li>
          ))}
        </ul>
      )}
      {f.problem ? (
        <p className="hold">
          {f.problem} <Link to="/trial-letters">Go to Trial letters</Link>
        </p>
      ) : (
        f.letters > 0 && <Order run={id} list={run.data.listName} forecast={f} />
      )}
    </>
  );
}

function Order({ run, list, forecast: f }: { run: number; list: string; forecast: Schema<"TrialForecast"> }) {
  const go = useNavigate();
  const client = useQueryClient();
  const session = useSession();
  const [text, setText] = useState({ subject: "", body: "", who: session.data?.workspace ?? "", why: "" });
  const [name, setName] = useState(list);
  const [reason, setReason] = useState("");
  const [confirmed, setConfirmed] = useState(false);
  const change = (part: Partial<typeof text>) => {
    setText({ ...text, ...part });
    preview.reset();
  };
  const preview = useMutation({
    mutationFn: async () => told(await api.POST("/trial-letters/preview", { body: text })),
  });
  const order = useMutation({
    mutationFn: async () =>
      told(
        await api.POST("/runs/{id}/trial-letters", {
          params: { path: { id: run } },
          body: { ...text, name, reason, confirmed },
        }),
      ),
    onSuccess: (m) => {
      void client.invalidateQueries({ queryKey: ["mailings"] });
      void go(`/mailings/${m.id}`);
    },
  });
  const look = (e: FormEvent) => {
    e.preventDefault();
    preview.mutate();
  };
  return (
    <form className="letter-form" onSubmit={look}>
      <h2>Your letter</h2>
      <Field label="Subject">
        <Input value={text.subject} maxLength={120} onChange={(e) => change({ subject: e.target.value })} />
      </Field>
      <Field label="Letter" help="Plain text, as you would write it to somebody you know. Answers go to the sender.">
        <Input.TextArea
          value={text.body}
          rows={8}
          maxLength={10_000}
          onChange={(e) => change({ body: e.target.value })}
        />
      </Field>
      <Field
        label="Who writes"
        help="The person or organisation, and where they can be reached. It appears below the letter."
      >
        <Input value={text.who} maxLength={300} onChange={(e) => change({ who: e.target.value })} />
      </Field>
      <Field
        label="Why you write to them"
        help="How you come by the address. It appears below the letter, with a link to unsubscribe."
      >
        <Input value={text.why} maxLength={300} onChange={(e) => change({ why: e.target.value })} />
      </Field>
      {preview.error && <Trouble error={preview.error} />}
      <Button htmlType="submit" loading={preview.isPending}>
        Look at the letter
      </Button>
      {preview.data && (
        <section>
          <h2>As its readers get it</h2>
          <pre className="letter">{preview.data.text}</pre>
          <Field label="Name of the mailing">
            <Input value={name} maxLength={200} onChange={(e) => setName(e.target.value)} />
          </Field>
          <Field
            label="By which right you write to these people"
            help="Such as their consent, or a contract with them. It is kept in the audit trail with your name."
          >
            <Input value={reason} maxLength={300} onChange={(e) => setReason(e.target.value)} />
          </Field>
          <Checkbox checked={confirmed} onChange={(e) => setConfirmed(e.target.checked)}>
            I may write to these people, and this letter is honest.
          </Checkbox>
          {order.error && <Trouble error={order.error} />}
          <p>If ordered now, bounces are waited for until {moment(f.until)}.</p>
          <Button
            type="primary"
            disabled={!confirmed || !reason.trim() || !name.trim()}
            loading={order.isPending}
            onClick={() => order.mutate()}
          >
            Send {plural(f.letters, "letter")}
          </Button>
        </section>
      )}
    </form>
  );
}
