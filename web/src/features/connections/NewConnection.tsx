import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Input } from "antd";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Field } from "../../parts/Field";
import { Trouble, Wait } from "../../parts/Notice";
import { connectionKeys, useKinds } from "./queries";
import { RecipeTrial } from "./RecipeTrial";
import { SettingsForm, usualOf } from "./SettingsForm";

/** NewConnection makes a connection in three steps: which kind of place, its settings, what the test saw. */
export function NewConnection() {
  const kinds = useKinds();
  const [search, setSearch] = useSearchParams();
  if (kinds.error) return <Trouble error={kinds.error} again={() => void kinds.refetch()} />;
  if (!kinds.data) return <Wait for="the kinds of places" />;
  const kind = kinds.data.find((k) => k.code === search.get("kind"));
  return (
    <>
      <p className="path">
        <Link to="/connections">Connections</Link> →
      </p>
      <h1>New connection</h1>
      {kind ? (
        <Entering key={kind.code} kind={kind} back={() => setSearch({})} />
      ) : (
        <>
          <Where at={0} />
          <h2>Where do the contacts live?</h2>
          <ul className="kinds">
            {kinds.data.map((k) => (
              <li key={k.code}>
                <button type="button" className="plain" onClick={() => setSearch({ kind: k.code })}>
                  {k.title}
                </button>
                <small className="quiet">{k.says}</small>
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}

/** Where says which of the three steps one is at. */
function Where({ at }: { at: number }) {
  return (
    <ol className="steps" aria-label="Steps">
      {["Kind of place", "Settings", "Test"].map((name, i) => (
        <li key={name} aria-current={i === at ? "step" : undefined}>
          {name}
        </li>
      ))}
    </ol>
  );
}

/** Entering has a person enter settings, tests them, and keeps them. */
function Entering({ kind, back }: { kind: Schema<"ConnectionKind">; back: () => void }) {
  const client = useQueryClient();
  const go = useNavigate();
  const [name, setName] = useState("");
  const [settings, setSettings] = useState(usualOf(kind));
  const body = { kind: kind.code, settings };
  const test = useMutation({ mutationFn: async () => told(await api.POST("/connections/test", { body })) });
  const save = useMutation({
    mutationFn: async () => told(await api.POST("/connections", { body: { ...body, name } })),
    onSuccess: async (c) => {
      await client.invalidateQueries({ queryKey: connectionKeys.all });
      void go(`/connections/${c.id}`);
    },
  });
  const signIn = kind.code === "platform" && settings.recipe?.includes('"oauth"') === true;
  return (
    <form
      className="halves"
      onSubmit={(e) => {
        e.preventDefault();
        test.mutate();
      }}
    >
      <section>
        <Where at={test.data ? 2 : 1} />
        <h2>{kind.title}</h2>
        <Field label="Name" help="What you and your colleagues call it.">
          <Input value={name} maxLength={100} onChange={(e) => setName(e.target.value)} />
        </Field>
        <SettingsForm
          kind={kind}
          value={settings}
          onChange={(s) => {
            setSettings(s);
            test.reset();
          }}
        />
        {(test.error ?? save.error) && <Trouble error={(test.error ?? save.error)!} />}
        {test.data && <Seen of={test.data} />}
        <div className="acts">
          <Button htmlType="submit" type={test.data?.works ? "default" : "primary"} loading={test.isPending}>
            Test it
          </Button>
          <Button
            type={test.data?.works ? "primary" : "default"}
            disabled={!name.trim()}
            loading={save.isPending}
            onClick={() => save.mutate()}
          >
            {signIn ? "Save it, then sign in there" : "Save the connection"}
          </Button>
          <button type="button" className="plain" onClick={back}>
            Another kind of place
          </button>
        </div>
      </section>
      {kind.code === "platform" && <RecipeTrial recipe={settings.recipe ?? ""} />}
    </form>
  );
}

/** Seen says what a test saw. */
export function Seen({ of: t }: { of: Schema<"ConnectionTest"> }) {
  return <Alert type={t.works ? "success" : "warning"} role="status" className="notice" title={<bdi>{t.says}</bdi>} />;
}
