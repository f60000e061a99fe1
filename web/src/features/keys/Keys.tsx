import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Input, Select } from "antd";
import { type FormEvent, useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { useSession, useWords } from "../../api/hooks";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { Copy } from "../../parts/Copy";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { moment } from "../../words";
import { useKeys } from "./queries";

type Scope = Schema<"NewKey">["scopes"][number];

const lives = [
  { value: 30, label: "ends in 30 days" },
  { value: 365, label: "ends in a year" },
  { value: 0, label: "never ends" },
];

/** Keys shows the keys of the workspace, makes, replaces and takes them back. */
export function Keys() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const keys = useKeys();
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: ["keys"] }) };
  const words = useWords();
  const session = useSession();
  const [scopes, setScopes] = useState<Scope[]>(["read"]);
  const [days, setDays] = useState(365);
  const [origins, setOrigins] = useState<string[]>([]);
  const form = scopes.includes("form");
  const make = useMutation({
    ...after,
    mutationFn: async () =>
      told(await api.POST("/keys", { body: { name, scopes, expiresDays: days, ...(form && { origins }) } })),
  });
  const rotate = useMutation({
    ...after,
    mutationFn: async (id: number) =>
      told(await api.POST("/keys/{id}/rotate", { params: { path: { id } }, body: { overlapHours: 24 } })),
  });
  const fresh = make.submittedAt > rotate.submittedAt ? make.data : rotate.data;
  const remove = useMutation({
    ...after,
    mutationFn: async (id: number) => told(await api.DELETE("/keys/{id}", { params: { path: { id } } })),
  });
  const add = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(undefined, { onSuccess: () => setName("") });
  };
  const trouble = keys.error ?? make.error ?? rotate.error ?? remove.error;
  return (
    <>
      <h1>Keys</h1>
      <p>
        With a key a program works in this workspace, as far as its scopes go. It sends the key with each call; Varnet
        keeps only a fingerprint of it.
      </p>
      {trouble && <Trouble error={trouble} />}
      {fresh?.key && (
        <Alert
          type="success"
          role="status"
          className="notice"
          title={
            <>
              The key for “{fresh.name}”, shown only now: <code>{fresh.key}</code>{" "}
              <Copy text={fresh.key} what="the key" />
            </>
          }
        />
      )}
      <For scope="manage">
        {form && (
          <p>
            Everybody can read the key of a form in its page: it has this scope alone, and holds for pages of the
            origins that you name.
          </p>
        )}
        <form className="add" onSubmit={add}>
          <Input
            aria-label="What the key is for"
            placeholder="what the key is for"
            value={name}
            maxLength={120}
            onChange={(e) => setName(e.target.value)}
          />
          <Select
            aria-label="What it may do"
            mode="multiple"
            value={scopes}
            onChange={setScopes}
            options={(words.data?.scopes ?? [])
              .filter((x) => session.data?.scopes.includes(x.code))
              .map((x) => ({ value: x.code, label: `${x.code}: ${x.says}` }))}
            optionLabelProp="value"
            placeholder="what it may do"
            popupMatchSelectWidth={false}
            style={{ minWidth: 240 }}
          />
          <Select
            aria-label="When it ends"
            value={days}
            onChange={setDays}
            options={lives}
            popupMatchSelectWidth={false}
          />
          {form && (
            <Select
              aria-label="Origins of the pages with the form"
              mode="tags"
              open={false}
              suffixIcon={null}
              value={origins}
              onChange={setOrigins}
              tokenSeparators={[" ", ","]}
              placeholder="https://www.fernhollow.example"
              style={{ minWidth: 300 }}
            />
          )}
          <Button
            htmlType="submit"
            disabled={!name.trim() || scopes.length === 0 || (form && origins.length === 0)}
            loading={make.isPending}
          >
            Make a key
          </Button>
        </form>
      </For>
      {!keys.data ? (
        <Wait for="the keys" />
      ) : (
        <Scroll label="Keys">
          <table className="rows">
            <thead>
              <tr>
                <th>For</th>
                <th>May</th>
                <th>Made</th>
                <th>Ends</th>
                <th>Last used</th>
                <ActsHead />
              </tr>
            </thead>
            <tbody>
              {keys.data.map((k) => (
                <Row key={k.id} of={k} onRotate={() => rotate.mutate(k.id)} onRemove={() => remove.mutate(k.id)} />
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </>
  );
}

function Row({ of: k, onRotate, onRemove }: { of: Schema<"KnownKey">; onRotate: () => void; onRemove: () => void }) {
  const ended = k.expiresAt !== undefined && new Date(k.expiresAt) < new Date();
  return (
    <tr>
      <td>
        <bdi>{k.name}</bdi>
        {k.person && (
          <small className="quiet">
            by <bdi>{k.person}</bdi>
          </small>
        )}
        {k.origins.length > 0 && (
          <small className="quiet">
            forms on {k.origins.join(", ")}, {k.visitorDay} questions a visitor and day
          </small>
        )}
        {k.networks.length > 0 && <small className="quiet">from {k.networks.join(", ")} only</small>}
      </td>
      <td>{k.scopes.join(", ")}</td>
      <td>{moment(k.createdAt)}</td>
      <td>{ended ? "ended" : k.expiresAt ? moment(k.expiresAt) : "never"}</td>
      <td>
        {k.lastUsedAt ? <When at={k.lastUsedAt} /> : "never"}
        {k.lastUsedFrom && <small className="quiet">from {k.lastUsedFrom}</small>}
      </td>
      <td>
        <For scope="manage">
          <span className="row-acts">
            {!ended && (
              <Act of={k.name} onClick={onRotate}>
                Replace
              </Act>
            )}
            <Act of={k.name} onClick={onRemove}>
              Take it back
            </Act>
          </span>
        </For>
      </td>
    </tr>
  );
}
