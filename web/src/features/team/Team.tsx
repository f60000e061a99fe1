import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Select } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { keys, useSession, useWords } from "../../api/hooks";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { Choice } from "../../parts/Choice";
import { Copy } from "../../parts/Copy";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { moment, plural } from "../../words";
import { useConfirmed } from "../account/Confirm";
import { Ask, Field } from "../account/Door";
import { useTeam } from "./queries";

type Team = Schema<"Team">;
type Role = Schema<"RoleChange">["role"];

/** useRoles returns the roles as a person chooses them. */
function useRoles() {
  const words = useWords();
  return (words.data?.roles ?? []).map((r) => ({ value: r.code as Role, label: r.code, title: r.says }));
}

/** Team shows the people of the workspace; an owner invites, changes and removes them. */
export function TeamPage() {
  const team = useTeam();
  const session = useSession();
  if (team.error) return <Trouble error={team.error} again={() => void team.refetch()} />;
  if (!team.data || !session.data) return <Wait for="the team" />;
  const t = team.data;
  const owner = session.data.scopes.includes("team");
  return (
    <>
      <h1>Team</h1>
      <Sentence>
        {plural(t.members.length, "person works", "people work")} in “<bdi>{t.name}</bdi>”
        {t.invitations.length > 0 && `, ${plural(t.invitations.length, "is invited", "are invited")}`}.
      </Sentence>
      <Members of={t} owner={owner} />
      {(owner || t.invitations.length > 0) && <Invitations of={t} owner={owner} />}
      {owner && <Workspace key={`${t.name} ${t.secondFactor} ${t.readersExport}`} of={t} />}
      <Leaving of={t} owner={owner} />
    </>
  );
}

function useAfter() {
  const client = useQueryClient();
  return {
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["team"] });
      void client.invalidateQueries({ queryKey: keys.session });
    },
  };
}

function Members({ of: t, owner }: { of: Team; owner: boolean }) {
  const after = useAfter();
  const roles = useRoles();
  const change = useMutation({
    ...after,
    mutationFn: async ({ id, role }: { id: number; role: Role }) =>
      told(await api.PUT("/team/members/{id}", { params: { path: { id } }, body: { role } })),
  });
  const remove = useMutation({
    ...after,
    mutationFn: async (id: number) => told(await api.DELETE("/team/members/{id}", { params: { path: { id } } })),
  });
  const error = change.error ?? remove.error;
  return (
    <section>
      {error && <Trouble error={error} />}
      <Scroll label="Members">
        <table className="rows">
          <thead>
            <tr>
              <th>Person</th>
              <th>Role</th>
              <th>Second factor</th>
              <th>Since</th>
              <th>Last here</th>
              {owner && <ActsHead />}
            </tr>
          </thead>
          <tbody>
            {t.members.map((m) => (
              <tr key={m.id}>
                <td>
                  <bdi>{m.name}</bdi>
                  <small className="quiet">
                    <bdi>{m.address}</bdi>
                  </small>
                </td>
                <td>
                  {owner ? (
                    <Select<Role>
                      aria-label={`Role of ${m.name}`}
                      value={m.role}
                      options={roles}
                      onChange={(role) => change.mutate({ id: m.id, role })}
                      popupMatchSelectWidth={false}
                      style={{ minWidth: 120 }}
                    />
                  ) : (
                    m.role
                  )}
                </td>
                <td>{m.secondFactor ? "yes" : "no"}</td>
                <td>{moment(m.joinedAt)}</td>
                <td>{m.seenAt ? <When at={m.seenAt} /> : "not signed in"}</td>
                {owner && (
                  <td>
                    {m.you ? (
                      <span className="quiet">you</span>
                    ) : (
                      <Act of={m.name} onClick={() => remove.mutate(m.id)}>
                        Remove
                      </Act>
                    )}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      <Roles />
    </section>
  );
}

function Roles() {
  const words = useWords();
  return (
    <details>
      <summary>What the roles may do</summary>
      <dl className="roles">
        {words.data?.roles.map((r) => (
          <div key={r.code}>
            <dt>{r.code}</dt>
            <dd>{r.says}</dd>
          </div>
        ))}
      </dl>
    </details>
  );
}

function Invitations({ of: t, owner }: { of: Team; owner: boolean }) {
  const after = useAfter();
  const roles = useRoles();
  const [address, setAddress] = useState("");
  const [role, setRole] = useState<Role>("member");
  const invite = useMutation({
    mutationFn: async () => told(await api.POST("/team/invitations", { body: { address, role } })),
    onSuccess: () => {
      setAddress("");
      after.onSuccess();
    },
  });
  const back = useMutation({
    ...after,
    mutationFn: async (id: number) => told(await api.DELETE("/team/invitations/{id}", { params: { path: { id } } })),
  });
  return (
    <section>
      <h2>Invitations</h2>
      {owner && (
        <div className="invite">
          <Ask
            act="Invite"
            onSend={() => invite.mutate()}
            busy={invite.isPending}
            error={invite.error}
            ready={address.trim() !== ""}
          >
            <Field
              label="Address of a colleague"
              value={address}
              onChange={setAddress}
              autoComplete="off"
              inputMode="email"
              maxLength={320}
            />
            <Choice label="As" name="Role of the invitation" value={role} onChange={setRole} options={roles} />
          </Ask>
        </div>
      )}
      {invite.data?.link && (
        <Alert
          type="success"
          role="status"
          className="notice"
          title={
            <>
              <bdi>{invite.data.address}</bdi> is invited. The letter has this link, which you can pass on, too:{" "}
              <code>{invite.data.link}</code> <Copy text={invite.data.link} what="the link" />
            </>
          }
        />
      )}
      {back.error && <Trouble error={back.error} />}
      {t.invitations.length > 0 && (
        <Scroll label="Invitations">
          <table className="rows">
            <thead>
              <tr>
                <th>Address</th>
                <th>As</th>
                <th>Invited by</th>
                <th>Good until</th>
                {owner && <ActsHead />}
              </tr>
            </thead>
            <tbody>
              {t.invitations.map((i) => (
                <tr key={i.id}>
                  <td>
                    <bdi>{i.address}</bdi>
                  </td>
                  <td>{i.role}</td>
                  <td>{i.invitedBy ?? "somebody who has left"}</td>
                  <td>{new Date(i.expiresAt) < new Date() ? "too old" : moment(i.expiresAt)}</td>
                  {owner && (
                    <td>
                      <Act of={i.address} onClick={() => back.mutate(i.id)}>
                        Take it back
                      </Act>
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </section>
  );
}

function Workspace({ of: t }: { of: Team }) {
  const after = useAfter();
  const [name, setName] = useState(t.name);
  const [secondFactor, setSecondFactor] = useState(t.secondFactor);
  const [readersExport, setReadersExport] = useState(t.readersExport);
  const save = useMutation({
    ...after,
    mutationFn: async () => told(await api.PUT("/team", { body: { name, secondFactor, readersExport } })),
  });
  const same = name === t.name && secondFactor === t.secondFactor && readersExport === t.readersExport;
  return (
    <section className="settled">
      <h2>Workspace</h2>
      <Ask
        act="Save the workspace"
        onSend={() => save.mutate()}
        busy={save.isPending}
        error={save.error}
        ready={!same && name.trim() !== ""}
      >
        <Field label="Name" value={name} onChange={setName} autoComplete="off" maxLength={100} />
        <Checkbox checked={secondFactor} onChange={(e) => setSecondFactor(e.target.checked)}>
          Require a second factor of everybody
        </Checkbox>
        <Checkbox checked={readersExport} onChange={(e) => setReadersExport(e.target.checked)}>
          Readers may export
        </Checkbox>
      </Ask>
    </section>
  );
}

function Leaving({ of: t, owner }: { of: Team; owner: boolean }) {
  const client = useQueryClient();
  const go = useNavigate();
  const [to, setTo] = useState<number>();
  const [name, setName] = useState("");
  const out = () => {
    client.clear();
    void go("/lists");
  };
  const leave = useMutation({ mutationFn: async () => told(await api.POST("/team/leave")), onSuccess: out });
  const after = useAfter();
  const handOver = useConfirmed(
    async (personId: number) => told(await api.POST("/team/owner", { body: { personId } })),
    () => {
      setTo(undefined);
      after.onSuccess();
    },
  );
  const remove = useConfirmed(
    async () => told(await api.POST("/team/delete", { body: { name } })),
    () => {
      setName("");
      after.onSuccess();
    },
  );
  const keep = useMutation({ mutationFn: async () => told(await api.POST("/team/keep")), ...after });
  const error = leave.error ?? handOver.error ?? keep.error;
  const others = t.members.filter((m) => !m.you);
  return (
    <section className="settled">
      <h2>Leaving</h2>
      {error && <Trouble error={error} />}
      <p>What you made stays with the team.</p>
      <Button onClick={() => leave.mutate()} loading={leave.isPending}>
        Leave this workspace
      </Button>
      {owner && others.length > 0 && (
        <>
          <h3>Hand it over</h3>
          <p>Somebody else becomes its owner, and you a manager.</p>
          <span className="acts">
            <Select<number>
              aria-label="Hand it over to"
              placeholder="a member"
              {...(to && { value: to })}
              onChange={setTo}
              options={others.map((m) => ({ value: m.id, label: m.name }))}
              style={{ minWidth: 200 }}
            />
            <Button disabled={!to} onClick={() => to && handOver.mutate(to)} loading={handOver.isPending}>
              Hand it over
            </Button>
          </span>
        </>
      )}
      {owner && (
        <>
          <h3>Take everything along</h3>
          <p>Lists and results as files in a zip, and every record for another installation. Secrets are not in it.</p>
          <Button href="/api/v1/team/export">Export the workspace</Button>
        </>
      )}
      {owner && t.deleteAt && (
        <>
          <h3>Its deletion</h3>
          <p>
            <bdi>{t.deleteBy}</bdi> ordered it. On {moment(t.deleteAt)} everything in this workspace is gone for good.
          </p>
          <Button type="primary" onClick={() => keep.mutate()} loading={keep.isPending}>
            Stop the deletion
          </Button>
        </>
      )}
      {owner && !t.deleteAt && (
        <details>
          <summary>Delete the workspace</summary>
          <p>
            In 7 days all its lists, runs, results, policies, keys and catalogue entries are gone for good. Until then
            it works as before, and an owner can stop it. The members are notified.
          </p>
          <Ask
            act="Delete it in 7 days"
            onSend={() => remove.mutate(undefined)}
            busy={remove.isPending}
            error={remove.error}
            ready={name === t.name}
          >
            <Field label={`Type its name, “${t.name}”`} value={name} onChange={setName} autoComplete="off" />
          </Ask>
        </details>
      )}
      {handOver.dialog}
      {remove.dialog}
    </section>
  );
}
