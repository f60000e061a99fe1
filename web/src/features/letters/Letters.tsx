import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Input } from "antd";
import { type FormEvent, useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { useLetters } from "./queries";
import { ServerFields } from "./ServerFields";

type Server = Schema<"LetterServer">;

const empty: Server = { host: "", port: 587, security: "starttls", sender: "", baseUrl: location.origin };

/** Letters is by which submission server letters are sent; it is tried with a letter. */
export function Letters() {
  const letters = useLetters();
  if (letters.error) return <Trouble error={letters.error} again={() => void letters.refetch()} />;
  return (
    <>
      <h1>Letters</h1>
      {!letters.data ? (
        <Wait for="the settings" />
      ) : (
        <>
          <Sentence>{letters.data.says}</Sentence>
          <p>Codes for signing in, invitations and news of runs are sent as e-mail, by a submission server of yours.</p>
          <Form key={JSON.stringify(letters.data)} settings={letters.data} />
          {letters.data.server && <Trial />}
        </>
      )}
    </>
  );
}

function Form({ settings }: { settings: Schema<"LetterSettings"> }) {
  const client = useQueryClient();
  const [server, setServer] = useState(settings.server ?? empty);
  const [password, setPassword] = useState("");
  const change = (part: Partial<Server>) => setServer({ ...server, ...part });
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: ["letters"] }) };
  const save = useMutation({
    ...after,
    mutationFn: async () =>
      told(await api.PUT("/letters/server", { body: { ...server, ...(password && { password }) } })),
  });
  const remove = useMutation({ ...after, mutationFn: async () => told(await api.DELETE("/letters/server")) });
  const send = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  const error = save.error ?? remove.error;
  return (
    <form onSubmit={send}>
      <div className="settle">
        <ServerFields
          server={server}
          kept={settings.password}
          password={password}
          onChange={change}
          onPassword={setPassword}
        />
        <label>
          Sender
          <Input
            value={server.sender}
            onChange={(e) => change({ sender: e.target.value })}
            placeholder="Varnet <varnet@fernhollow.example>"
          />
        </label>
        <label>
          Where people reach the console
          <Input value={server.baseUrl} onChange={(e) => change({ baseUrl: e.target.value })} />
        </label>
      </div>
      {error && <Trouble error={error} />}
      <span className="acts">
        <Button type="primary" htmlType="submit" loading={save.isPending} disabled={!server.host || !server.sender}>
          Save
        </Button>
        {settings.server && (
          <Button onClick={() => remove.mutate()} loading={remove.isPending}>
            Stop sending letters
          </Button>
        )}
      </span>
    </form>
  );
}

function Trial() {
  const [to, setTo] = useState("");
  const test = useMutation({ mutationFn: async () => told(await api.POST("/letters/test", { body: { to } })) });
  return (
    <section>
      <h2>Try it</h2>
      <form
        className="add"
        onSubmit={(e) => {
          e.preventDefault();
          test.mutate();
        }}
      >
        <Input
          aria-label="Address for a test letter"
          value={to}
          onChange={(e) => setTo(e.target.value)}
          placeholder="ada.moss@fernhollow.example"
        />
        <Button htmlType="submit" disabled={!to.trim()} loading={test.isPending}>
          Send a test letter
        </Button>
      </form>
      {test.error && <Trouble error={test.error} />}
      {test.data && <Alert type="success" role="status" className="notice" title={test.data.says} />}
    </section>
  );
}
