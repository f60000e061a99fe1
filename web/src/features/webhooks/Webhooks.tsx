import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Input } from "antd";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { moment } from "../../words";
import { Events } from "./Events";
import { useWebhooks } from "./queries";

/** Webhooks shows the addresses that are told of events, and adds one. */
export function Webhooks() {
  const client = useQueryClient();
  const webhooks = useWebhooks();
  const [url, setUrl] = useState("");
  const [codes, setCodes] = useState<string[]>(["run.finished"]);
  const make = useMutation({
    mutationFn: async () => told(await api.POST("/webhooks", { body: { url, codes } })),
    onSuccess: () => {
      setUrl("");
      return client.invalidateQueries({ queryKey: ["webhooks"] });
    },
  });
  const add = (e: FormEvent) => {
    e.preventDefault();
    make.mutate();
  };
  return (
    <>
      <h1>Webhooks</h1>
      <p>
        A webhook is an address that Varnet calls when something happens. Each call is signed with the webhook’s secret,
        so that the receiver knows it is from here.
      </p>
      {(webhooks.error ?? make.error) && <Trouble error={(webhooks.error ?? make.error)!} />}
      {make.data?.secret && <Secret of={make.data} />}
      <form className="add" onSubmit={add}>
        <Input
          aria-label="Address of the webhook"
          placeholder="https://hooks.fernhollow.example/varnet"
          value={url}
          maxLength={2000}
          onChange={(e) => setUrl(e.target.value)}
        />
        <Events value={codes} onChange={setCodes} />
        <Button htmlType="submit" disabled={!url.trim() || codes.length === 0} loading={make.isPending}>
          Add the webhook
        </Button>
      </form>
      {!webhooks.data ? (
        <Wait for="the webhooks" />
      ) : webhooks.data.length === 0 ? (
        <p>There is no webhook yet.</p>
      ) : (
        <Scroll label="Webhooks">
          <table className="rows">
            <thead>
              <tr>
                <th>Address</th>
                <th>Told of</th>
                <th>State</th>
                <th>Made</th>
              </tr>
            </thead>
            <tbody>
              {webhooks.data.map((w) => (
                <tr key={w.id}>
                  <td>
                    <Link to={`/webhooks/${w.id}`}>
                      <bdi>{w.url}</bdi>
                    </Link>
                  </td>
                  <td>{w.codes.join(", ")}</td>
                  <td>{w.says}</td>
                  <td>{moment(w.createdAt)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </>
  );
}

/** Secret shows the secret of a webhook, this once. */
export function Secret({ of: w }: { of: Schema<"Webhook"> }) {
  if (!w.secret) return null;
  return (
    <Alert
      type="success"
      role="status"
      className="notice"
      title={
        <>
          The secret of this webhook, shown only now: <code>{w.secret}</code> <Copy text={w.secret} what="the secret" />
        </>
      }
    />
  );
}
