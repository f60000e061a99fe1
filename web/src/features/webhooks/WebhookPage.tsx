import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Drawer } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { Sure } from "../../parts/Sure";
import { When } from "../../parts/When";
import { moment } from "../../words";
import { Events } from "./Events";
import { useWebhooks } from "./queries";
import { Secret } from "./Webhooks";

/** WebhookPage shows a webhook: what it is told of, how it is, and its log. */
export function WebhookPage() {
  const id = Number(useParams().id);
  const webhooks = useWebhooks();
  const w = webhooks.data?.find((x) => x.id === id);
  if (webhooks.error) return <Trouble error={webhooks.error} again={() => void webhooks.refetch()} />;
  if (!webhooks.data) return <Wait for="the webhook" />;
  if (!w)
    return (
      <p>
        There is no such webhook in your workspace. <Link to="/webhooks">See all webhooks</Link>.
      </p>
    );
  return (
    <>
      <p className="path">
        <Link to="/webhooks">Webhooks</Link> →
      </p>
      <h1>
        <bdi>{w.url}</bdi>
      </h1>
      <Changes of={w} />
      <Log of={w} />
    </>
  );
}

function Changes({ of: w }: { of: Schema<"Webhook"> }) {
  const client = useQueryClient();
  const go = useNavigate();
  const [codes, setCodes] = useState(w.codes);
  const path = { params: { path: { id: w.id } } };
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: ["webhooks"] }) };
  const change = useMutation({
    ...after,
    mutationFn: async (body: Schema<"WebhookChange">) => told(await api.PATCH("/webhooks/{id}", { ...path, body })),
  });
  const renew = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/webhooks/{id}/secret", path)),
  });
  const test = useMutation({
    mutationFn: async () => told(await api.POST("/webhooks/{id}/test", path)),
  });
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/webhooks/{id}", path)),
    onSuccess: async () => {
      await after.onSuccess();
      void go("/webhooks");
    },
  });
  const trouble = change.error ?? renew.error ?? test.error ?? remove.error;
  return (
    <>
      <p className="sentence">{w.says}</p>
      {w.bothUntil && new Date(w.bothUntil) > new Date() && (
        <p>Until {moment(w.bothUntil)} calls are signed by the secret before, too.</p>
      )}
      {trouble && <Trouble error={trouble} />}
      {renew.data && <Secret of={renew.data} />}
      <div className="add">
        <Events value={codes} onChange={setCodes} />
        <Button
          disabled={codes.length === 0 || codes.join() === w.codes.join()}
          loading={change.isPending}
          onClick={() => change.mutate({ codes })}
        >
          Save the events
        </Button>
      </div>
      <div className="acts">
        <Button type="primary" loading={test.isPending} onClick={() => test.mutate()}>
          Make a test call
        </Button>
        <button type="button" className="plain" onClick={() => change.mutate({ on: !w.on })}>
          {w.on ? "Switch it off" : "Switch it on"}
        </button>
        <Sure
          ask="Give it another secret?"
          says="For a day calls are signed by both."
          yes="Give it another"
          no="Keep this one"
          onYes={() => renew.mutate()}
        >
          Another secret
        </Sure>
        <Sure
          ask="Delete this webhook with its log?"
          says="Events that were not delivered yet are dropped."
          yes="Delete it"
          onYes={() => remove.mutate()}
        >
          Delete it
        </Sure>
      </div>
      {test.isSuccess && <p role="status">It is being called; the log below shows the result in a moment.</p>}
    </>
  );
}

/** Log shows what was delivered, the newest first. */
function Log({ of: w }: { of: Schema<"Webhook"> }) {
  const [shown, setShown] = useState<number>();
  const log = useInfiniteQuery({
    queryKey: ["deliveries", w.id],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(
        await api.GET("/webhooks/{id}/deliveries", {
          params: { path: { id: w.id }, query: { cursor: pageParam, limit: 50 } },
        }),
      ),
    getNextPageParam: (last) => last.next,
    select: (pages) => pages.pages.flatMap((p) => p.items),
    refetchInterval: 5000,
  });
  const client = useQueryClient();
  const resend = useMutation({
    mutationFn: async (id: number) => told(await api.POST("/deliveries/{id}/resend", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["deliveries", w.id] }),
  });
  return (
    <section>
      <h2>What was delivered</h2>
      {(log.error ?? resend.error) && <Trouble error={(log.error ?? resend.error)!} />}
      {!log.data ? (
        <Wait for="the log" />
      ) : log.data.length === 0 ? (
        <p>Nothing yet. A test call shows whether it is taken.</p>
      ) : (
        <Scroll label="What was delivered">
          <table className="rows">
            <thead>
              <tr>
                <th>Event</th>
                <th>Since</th>
                <th>State</th>
                <th className="number">Attempts</th>
                <ActsHead />
              </tr>
            </thead>
            <tbody>
              {log.data.map((d) => (
                <tr key={d.id}>
                  <td>
                    <bdi>{d.subject}</bdi>
                    <small className="quiet">{d.code}</small>
                  </td>
                  <td>
                    <When at={d.createdAt} />
                  </td>
                  <td>
                    {d.state}
                    {d.nextAt && <small className="quiet">again {moment(d.nextAt)}</small>}
                  </td>
                  <td className="number">{d.attempts}</td>
                  <td>
                    <span className="row-acts">
                      <Act of={d.subject} onClick={() => setShown(d.id)}>
                        See the attempts
                      </Act>
                      <Act of={d.subject} onClick={() => resend.mutate(d.id)}>
                        Deliver it again
                      </Act>
                    </span>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {log.hasNextPage && (
        <Button loading={log.isFetchingNextPage} onClick={() => void log.fetchNextPage()}>
          Show older ones
        </Button>
      )}
      <Attempts of={shown} onClose={() => setShown(undefined)} />
    </section>
  );
}

/** Attempts shows what was sent and answered. */
function Attempts({ of: id, onClose }: { of: number | undefined; onClose: () => void }) {
  const delivery = useQuery({
    queryKey: ["delivery", id],
    enabled: id !== undefined,
    queryFn: async () => told(await api.GET("/deliveries/{id}", { params: { path: { id: id! } } })),
    refetchInterval: 5000,
  });
  const d = delivery.data;
  return (
    <Drawer
      open={id !== undefined}
      onClose={onClose}
      size={640}
      title={<h2 className="drawer-title">{d ? <bdi>{d.subject}</bdi> : "Delivery"}</h2>}
    >
      {delivery.error && <Trouble error={delivery.error} />}
      {!d && !delivery.error && <Wait for="the delivery" />}
      {d?.log.length === 0 && <p>Not tried yet.</p>}
      {d?.log.map((a) => (
        <section key={a.number}>
          <h3>
            Attempt {a.number}, {moment(a.at)}
          </h3>
          <p>{a.problem ?? `Taken within ${a.tookMs} ms.`}</p>
          <Scroll label={`What was sent at attempt ${a.number}`}>
            <pre className="wire">{a.request}</pre>
          </Scroll>
          {a.status !== undefined && (
            <>
              <p>
                It answered {a.status}
                {a.answer ? ":" : " with nothing more."}
              </p>
              {a.answer && (
                <Scroll label={`What was answered at attempt ${a.number}`}>
                  <pre className="wire">{a.answer}</pre>
                </Scroll>
              )}
            </>
          )}
        </section>
      ))}
    </Drawer>
  );
}
