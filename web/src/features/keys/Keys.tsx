import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Input } from "antd";
import { type FormEvent, useState } from "react";
import { api, told } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { Trouble, Wait } from "../../parts/Notice";
import { moment } from "../../words";
import { useKeys } from "./queries";

/** Keys shows the keys of the workspace, makes one and takes one back. */
export function Keys() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const keys = useKeys();
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: ["keys"] }) };
  const make = useMutation({ ...after, mutationFn: async () => told(await api.POST("/keys", { body: { name } })) });
  const remove = useMutation({
    ...after,
    mutationFn: async (id: number) => told(await api.DELETE("/keys/{id}", { params: { path: { id } } })),
  });
  const add = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(undefined, { onSuccess: () => setName("") });
  };
  const trouble = keys.error ?? make.error ?? remove.error;
  return (
    <>
      <h1>Keys</h1>
      <p>
        A key opens this workspace: people sign in to the console with it, programs send it with each call. Varnet keeps
        only a fingerprint of it.
      </p>
      {trouble && <Trouble error={trouble} />}
      {make.data?.key && (
        <Alert
          type="success"
          role="status"
          className="notice"
          title={
            <>
              The key for “{make.data.name}”, shown only now: <code>{make.data.key}</code>{" "}
              <Copy text={make.data.key} what="the key" />
            </>
          }
        />
      )}
      <form className="add" onSubmit={add}>
        <Input
          aria-label="What the key is for"
          placeholder="what the key is for"
          value={name}
          maxLength={120}
          onChange={(e) => setName(e.target.value)}
        />
        <Button htmlType="submit" disabled={!name.trim()} loading={make.isPending}>
          Make a key
        </Button>
      </form>
      {!keys.data ? (
        <Wait for="the keys" />
      ) : (
        <table className="rows narrow">
          <thead>
            <tr>
              <th>For</th>
              <th>Made</th>
              <th>
                <span className="unseen">What can be done</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {keys.data.map((k) => (
              <tr key={k.id}>
                <td>
                  <bdi>{k.name}</bdi>
                </td>
                <td>{moment(k.createdAt)}</td>
                <td>
                  {k.yours ? (
                    <span className="quiet">you are signed in with it</span>
                  ) : (
                    <button type="button" className="plain" onClick={() => remove.mutate(k.id)}>
                      Take it back<span className="unseen">: {k.name}</span>
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
