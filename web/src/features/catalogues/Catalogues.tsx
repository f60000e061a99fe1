import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { AddressText } from "../../parts/AddressText";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { When } from "../../parts/When";
import { number, plural } from "../../words";
import { KindChoice } from "./KindChoice";
import { type Kind, kinds } from "./kinds";
import { useFollowed, useOwnEntries } from "./queries";
import { Shipped } from "./Shipped";

type Entry = Schema<"CatalogueEntry">;
/** shown is how many entries of one's own are shown. */
const shown = 500;
const keyOf = (e: Entry) => `${e.kind} ${e.name}`;

/** Catalogues shows the workspace's own entries over the shipped catalogues, and takes many at a time. */
export function Catalogues() {
  const client = useQueryClient();
  const entries = useOwnEntries();
  const remove = useMutation({
    mutationFn: async (e: Entry) =>
      told(await api.DELETE("/catalogue/{kind}/{name}", { params: { path: { kind: e.kind, name: e.name } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["catalogue"] }),
  });
  return (
    <>
      <h1>Catalogues</h1>
      <p>
        Varnet ships with lists of role names, disposable and free-mail domains, and traps. What you know beside them is
        here, and counts from the next check on.
      </p>
      <For scope="manage">
        <Add />
      </For>
      {(entries.error ?? remove.error) && <Trouble error={(entries.error ?? remove.error)!} />}
      {!entries.data ? (
        <Wait for="your entries" />
      ) : entries.data.length === 0 ? (
        <p>You have no entries of your own yet.</p>
      ) : (
        <>
          <h2>{plural(entries.data.length, "entry", "entries")} of your own</h2>
          <table className="rows narrow">
            <thead>
              <tr>
                <th>Catalogue</th>
                <th>Name</th>
                <th>Counts as</th>
                <ActsHead />
              </tr>
            </thead>
            <tbody>
              {entries.data.slice(0, shown).map((e) => (
                <tr key={keyOf(e)}>
                  <td>{kinds.find((k) => k.value === e.kind)?.label}</td>
                  <td>
                    <AddressText text={e.name} />
                  </td>
                  <td>{e.except ? "an exception: it is none" : "one of them"}</td>
                  <td>
                    <Act of={e.name} onClick={() => remove.mutate(e)}>
                      Remove
                    </Act>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {entries.data.length > shown && <p className="quiet">The first {number(shown)} are shown.</p>}
        </>
      )}
      <Followed />
      <Shipped />
    </>
  );
}

/** Followed are the catalogues that are kept elsewhere and read every day. */
function Followed() {
  const client = useQueryClient();
  const [kind, setKind] = useState<Kind>("disposable");
  const [url, setURL] = useState("");
  const sources = useFollowed();
  const again = () => client.invalidateQueries({ queryKey: ["catalogue", "sources"] });
  const follow = useMutation({
    mutationFn: async () => told(await api.POST("/catalogue/sources", { body: { kind, url } })),
    onSuccess: () => {
      setURL("");
      return again();
    },
  });
  const read = useMutation({
    mutationFn: async (id: number) =>
      told(await api.POST("/catalogue/sources/{id}/read", { params: { path: { id } } })),
    onSuccess: again,
  });
  const unfollow = useMutation({
    mutationFn: async (id: number) => told(await api.DELETE("/catalogue/sources/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const error = sources.error ?? follow.error ?? read.error ?? unfollow.error;
  return (
    <section>
      <h2>Followed catalogues</h2>
      <p>Each is a list kept elsewhere, one entry per line, and read every day. Your own entries take precedence.</p>
      <form
        className="add"
        onSubmit={(e) => {
          e.preventDefault();
          follow.mutate();
        }}
      >
        <Input
          aria-label="Address of the list"
          value={url}
          onChange={(e) => setURL(e.target.value)}
          placeholder="https://lists.seedlibrary.example/disposable.txt"
        />
        <KindChoice name="Catalogue of the list" value={kind} onChange={setKind} />
        <Button htmlType="submit" disabled={!url.trim()} loading={follow.isPending}>
          Follow
        </Button>
      </form>
      {error && <Trouble error={error} />}
      {sources.data && sources.data.length > 0 && (
        <table className="rows narrow">
          <thead>
            <tr>
              <th>Catalogue</th>
              <th>Address</th>
              <th>Entries</th>
              <th>Last read</th>
              <ActsHead />
            </tr>
          </thead>
          <tbody>
            {sources.data.map((s) => (
              <tr key={s.id}>
                <td>{kinds.find((k) => k.value === s.kind)?.label}</td>
                <td>
                  <AddressText text={s.url} />
                </td>
                <td className={s.problem ? "hold" : ""}>{s.sentence}</td>
                <td>{s.readAt ? <When at={s.readAt} /> : "not yet"}</td>
                <td>
                  <Act of={s.url} onClick={() => read.mutate(s.id)}>
                    Read now
                  </Act>{" "}
                  <Act of={s.url} onClick={() => unfollow.mutate(s.id)}>
                    Unfollow
                  </Act>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

function Add() {
  const client = useQueryClient();
  const [kind, setKind] = useState<Kind>("disposable");
  const [except, setExcept] = useState(false);
  const [text, setText] = useState("");
  const names = text.split(/[\s,;]+/).filter(Boolean);
  const add = useMutation({
    mutationFn: async () =>
      told(await api.POST("/catalogue", { body: { entries: names.map((name) => ({ kind, name, except })) } })),
    onSuccess: () => {
      setText("");
      return client.invalidateQueries({ queryKey: ["catalogue"] });
    },
  });
  const would = useMutation({
    mutationFn: async () =>
      told(await api.POST("/catalogue/try", { body: { entries: names.map((name) => ({ kind, name, except })) } })),
  });
  return (
    <>
      <div className="add">
        <Input.TextArea
          aria-label="Names"
          rows={3}
          value={text}
          onChange={(e) => setText(e.target.value)}
          placeholder={"names or domains, one per line\ntenminutes.example"}
        />
        <KindChoice name="Catalogue" value={kind} onChange={setKind} />
        <Select
          aria-label="Counts as"
          value={except}
          onChange={setExcept}
          options={[
            { value: false, label: "count as such" },
            { value: true, label: "are exceptions" },
          ]}
        />
        <Button type="primary" disabled={names.length === 0} loading={add.isPending} onClick={() => add.mutate()}>
          {names.length > 1 ? `Add ${names.length} entries` : "Add"}
        </Button>
        <Button disabled={names.length === 0} loading={would.isPending} onClick={() => would.mutate()}>
          See what that would alter
        </Button>
      </div>
      {(add.error ?? would.error) && <Trouble error={(add.error ?? would.error)!} />}
      {would.data && (
        <div role="status" className="takes">
          <p>{would.data.sentence}</p>
          <ul>
            {would.data.lists.map((l) => (
              <li key={l.id}>
                {plural(l.addresses, "address", "addresses")} of{" "}
                <Link to={`/lists/${l.id}`}>
                  <bdi>{l.name}</bdi>
                </Link>
              </li>
            ))}
          </ul>
        </div>
      )}
    </>
  );
}
