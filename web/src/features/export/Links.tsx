import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Select } from "antd";
import { useState } from "react";
import { api, items, type Schema, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { Copy } from "../../parts/Copy";
import { Trouble } from "../../parts/Notice";
import { moment, plural } from "../../words";
import type { queryOf } from "./query";

const lives = [1, 7, 30, 90];

/** Links makes a link from which a sending tool fetches the file itself, and shows those that are good. */
export function Links({ run, query }: { run: number; query: ReturnType<typeof queryOf> }) {
  const client = useQueryClient();
  const [days, setDays] = useState(7);
  const links = useQuery({
    queryKey: ["links", run],
    queryFn: async () => items(await api.GET("/runs/{id}/links", { params: { path: { id: run } } })),
  });
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: ["links", run] }) };
  const make = useMutation({
    ...after,
    mutationFn: async () =>
      told(
        await api.POST("/runs/{id}/links", {
          params: { path: { id: run } },
          body: {
            decision: query.decision ?? "keep",
            form: query.form ?? "rows",
            format: query.format ?? "original",
            days,
          },
        }),
      ),
  });
  const remove = useMutation({
    ...after,
    mutationFn: async (id: number) => told(await api.DELETE("/links/{id}", { params: { path: { id } } })),
  });
  const trouble = make.error ?? remove.error;
  return (
    <details>
      <summary>A link for a sending tool that fetches the file itself</summary>
      <p>
        Whoever has the link gets the file without signing in, until it expires. It follows the decisions of the run.
      </p>
      {trouble && <Trouble error={trouble} />}
      <div className="acts">
        <Select
          aria-label="Good for"
          value={days}
          onChange={setDays}
          options={lives.map((d) => ({ value: d, label: `good for ${plural(d, "day")}` }))}
        />
        <Button loading={make.isPending} onClick={() => make.mutate()}>
          Make a link
        </Button>
      </div>
      {make.data?.path && <Made path={make.data.path} />}
      {links.data && links.data.length > 0 && (
        <ul>
          {links.data.map((l) => (
            <li key={l.id}>
              {words(l)}{" "}
              <Act of={`link ${l.id}`} onClick={() => remove.mutate(l.id)}>
                Delete it
              </Act>
            </li>
          ))}
        </ul>
      )}
    </details>
  );
}

function Made({ path }: { path: string }) {
  const url = location.origin + path;
  return (
    <Alert
      type="success"
      role="status"
      className="notice"
      title={
        <>
          The link, shown only now: <code>{url}</code> <Copy text={url} what="the link" />
        </>
      }
    />
  );
}

function words(l: Schema<"Link">): string {
  const which = l.decision === "all" ? "all rows" : `rows to ${l.decision}`;
  return `${which} (${l.form}), until ${moment(l.expiresAt)}, by ${l.by}; fetched ${plural(l.fetched, "time")}.`;
}
