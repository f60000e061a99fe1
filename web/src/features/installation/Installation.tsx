import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number, plural } from "../../words";
import { Ask, Field } from "../account/Door";
import { useInstallation } from "./queries";

type Settings = Schema<"InstallationSettings">;
type Usage = Schema<"WorkspaceUsage">;

const modes: { value: Settings["signUp"]; label: string }[] = [
  { value: "open", label: "anybody" },
  { value: "invitation", label: "who was invited" },
  { value: "closed", label: "nobody" },
];

const limits: [keyof Settings["limits"], string][] = [
  ["requestsMinute", "Requests a minute"],
  ["checksMinute", "Checks a minute"],
  ["imports", "Files imported at a time"],
  ["exports", "Files exported at a time"],
  ["streams", "Open event streams"],
  ["uploads", "Files on their way in parts"],
  ["uploadMb", "Their size together, in MB"],
  ["lists", "Lists kept"],
];

/** Installation is what its owner sets for all workspaces, and what those use. */
export function Installation() {
  const installation = useInstallation();
  if (installation.error) return <Trouble error={installation.error} again={() => void installation.refetch()} />;
  if (!installation.data) return <Wait for="the installation" />;
  const { workspaces, ...settings } = installation.data;
  const people = workspaces.reduce((n, w) => n + w.members, 0);
  return (
    <>
      <h1>Installation</h1>
      <Sentence>
        {plural(workspaces.length, "workspace", "workspaces")} with {plural(people, "member", "members")} in all and{" "}
        {number(workspaces.reduce((n, w) => n + w.rows, 0))} rows in their lists.
      </Sentence>
      <Workspaces of={workspaces} />
      <Form key={JSON.stringify(settings)} settings={settings} />
    </>
  );
}

function Workspaces({ of }: { of: Usage[] }) {
  return (
    <Scroll label="Workspaces">
      <table className="rows">
        <thead>
          <tr>
            <th>Workspace</th>
            <th className="number">Members</th>
            <th className="number">Lists</th>
            <th className="number">Rows</th>
            <th className="number">Addresses verified in 30 days</th>
            <th>Last run</th>
            <th>Rows at most</th>
          </tr>
        </thead>
        <tbody>
          {of.map((w) => (
            <Workspace key={`${w.id} ${w.maxRows}`} of={w} />
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function Workspace({ of: w }: { of: Usage }) {
  const client = useQueryClient();
  const [most, setMost] = useState<number | null>(w.maxRows || null);
  const limit = useMutation({
    mutationFn: async () =>
      told(
        await api.PUT("/installation/workspaces/{id}", {
          params: { path: { id: w.id } },
          body: { maxRows: most ?? 0 },
        }),
      ),
    onSuccess: (i) => client.setQueryData(["installation"], i),
  });
  return (
    <tr>
      <td>
        <bdi>{w.name}</bdi>
        {limit.error && <Trouble error={limit.error} />}
      </td>
      <td className="number">{number(w.members)}</td>
      <td className="number">{number(w.lists)}</td>
      <td className="number">{number(w.rows)}</td>
      <td className="number">{number(w.addresses)}</td>
      <td>{w.lastRunAt ? <When at={w.lastRunAt} /> : "none"}</td>
      <td>
        <span className="row-acts">
          <InputNumber
            aria-label={`Rows at most of ${w.name}`}
            placeholder="any number"
            style={{ width: 128 }}
            min={0}
            controls={false}
            value={most}
            onChange={setMost}
          />
          <Button disabled={(most ?? 0) === w.maxRows} onClick={() => limit.mutate()} loading={limit.isPending}>
            Limit
          </Button>
        </span>
      </td>
    </tr>
  );
}

function Form({ settings }: { settings: Settings }) {
  const client = useQueryClient();
  const [s, setS] = useState(settings);
  const [secret, setSecret] = useState("");
  const change = (part: Partial<Settings>) => setS({ ...s, ...part });
  const provider = (part: Partial<Settings["provider"]>) => change({ provider: { ...s.provider, ...part } });
  const save = useMutation({
    mutationFn: async () => {
      const { redirect: _, ...p } = s.provider;
      return told(await api.PUT("/installation", { body: { ...s, provider: { ...p, ...(secret && { secret }) } } }));
    },
    onSuccess: (i) => client.setQueryData(["installation"], i),
  });
  return (
    <Ask
      act="Save"
      onSend={() => save.mutate()}
      busy={save.isPending}
      error={save.error}
      ready={JSON.stringify(s) !== JSON.stringify(settings) || secret !== ""}
    >
      <div className="halves">
        <section className="asked">
          <h2>For everybody</h2>
          <Choice
            label="Who may sign up"
            value={s.signUp}
            onChange={(signUp) => change({ signUp })}
            options={modes}
            style={{ minWidth: 200 }}
          />
          <label>
            Days lists are kept, at most
            <InputNumber
              min={0}
              max={3650}
              controls={false}
              placeholder="any time"
              value={s.maxKeepDays || null}
              onChange={(n) => change({ maxKeepDays: n ?? 0 })}
            />
          </label>
          <label>
            Days that the audit trail is kept
            <InputNumber
              min={30}
              max={3650}
              controls={false}
              value={s.auditDays}
              onChange={(n) => n && change({ auditDays: n })}
            />
          </label>
          <h3>What each workspace may have</h3>
          <div className="beside">
            {limits.map(([name, label]) => (
              <label key={name}>
                {label}
                <InputNumber
                  min={1}
                  controls={false}
                  value={s.limits[name]}
                  onChange={(n) => n && change({ limits: { ...s.limits, [name]: n } })}
                />
              </label>
            ))}
          </div>
        </section>
        <section className="asked">
          <h2>Sign-in provider</h2>
          <p>Where your people sign in already (OpenID Connect). Leave the issuer empty for none.</p>
          <Field
            label="Issuer"
            value={s.provider.issuer}
            onChange={(issuer) => provider({ issuer })}
            autoComplete="off"
          />
          <Field
            label="What its button says"
            value={s.provider.name}
            onChange={(name) => provider({ name })}
            autoComplete="off"
          />
          <Field
            label="Client ID"
            value={s.provider.client}
            onChange={(c) => provider({ client: c })}
            autoComplete="off"
          />
          <Field
            label="Client secret"
            hint="Left empty, the one that is kept stays."
            type="password"
            value={secret}
            onChange={setSecret}
            autoComplete="off"
          />
          {s.provider.redirect && (
            <p className="quiet">
              It sends people back to <code className="secret">{s.provider.redirect}</code>
            </p>
          )}
        </section>
      </div>
    </Ask>
  );
}
