import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import type { ReactNode } from "react";
import { useNavigate } from "react-router";
import { api, type Result, type Run, type Schema, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { useMay } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { glyphs, number, plural } from "../../words";
import type { Filter } from "./filter";
import { useMatching } from "./useMatching";

type Asked = Schema<"Override">["decision"];
/** What one can do with a choice of rows, and what it is called. */
const overrides: [Asked, string][] = [
  ["keep", `${glyphs.keep} Keep`],
  ["hold", `${glyphs.hold} Hold`],
  ["drop", `${glyphs.drop} Drop`],
  ["policy", "As the policy says"],
];

/** About so many can be overridden at once; the service takes no more. */
const mostOverridden = 10_000;

type Acts = {
  run: Run;
  clear: () => void;
  /** What is chosen, in words. */
  says: string;
  decide: (decision: Asked) => Promise<unknown>;
  ask: () => Promise<Run>;
  /** The choice as the page for taking out knows it. */
  out: Record<string, string>;
  /** Too many to override at once. */
  many?: boolean;
  children?: ReactNode;
};

/** Chosen is what can be done with the addresses that were chosen. */
export function Chosen({ run, chosen, clear }: { run: Run; chosen: Result[]; clear: () => void }) {
  const ordinals = chosen.map((r) => r.ordinal);
  const copy = useMutation({
    mutationFn: () => navigator.clipboard.writeText(`${chosen.map((r) => r.mailbox ?? r.typed).join("\n")}\n`),
  });
  if (chosen.length === 0) return null;
  return (
    <Bar
      run={run}
      clear={clear}
      says={`${plural(chosen.length, "address", "addresses")} chosen.`}
      out={{ ordinals: ordinals.join(",") }}
      decide={async (decision) =>
        told(
          await api.POST("/lists/{id}/overrides", {
            params: { path: { id: run.listId } },
            body: { ordinals, decision },
          }),
        )
      }
      ask={async () =>
        told(await api.POST("/runs/{id}/ask-again", { params: { path: { id: run.id } }, body: { ordinals } }))
      }
    >
      <Button size="small" onClick={() => copy.mutate()}>
        {copy.isSuccess ? "Copied" : "Copy"}
      </Button>
      {copy.error && <Trouble error={copy.error} />}
    </Bar>
  );
}

/** AllChosen is what can be done with all addresses that fit the filter, shown or not. */
export function AllChosen({ run, filter, clear }: { run: Run; filter: Filter; clear: () => void }) {
  const params = { path: { id: run.id }, query: filter };
  const fits = useMatching(run, filter);
  if (fits.error) return <Trouble error={fits.error} again={() => void fits.refetch()} />;
  if (!fits.data) return <Wait for="the count of those that match" />;
  const { addresses, more } = fits.data;
  const many = more || addresses > mostOverridden;
  return (
    <Bar
      run={run}
      clear={clear}
      many={many}
      out={Object.fromEntries(Object.entries(filter).map(([k, v]) => [k, String(v)]))}
      says={
        more
          ? `All that match are chosen: more than ${number(addresses)} addresses.`
          : `All ${plural(addresses, "address", "addresses")} that match are chosen.`
      }
      decide={async (decision) =>
        told(
          await api.POST("/runs/{id}/overrides", {
            params: { ...params, query: { ...filter, all: Object.keys(filter).length === 0 } },
            body: { decision },
          }),
        )
      }
      ask={async () => told(await api.POST("/runs/{id}/ask-again", { params, body: {} }))}
    />
  );
}

/** Bar says what is chosen, and holds what can be done with it. */
function Bar({ run, clear, says, decide, ask, out, many, children }: Acts) {
  const client = useQueryClient();
  const go = useNavigate();
  const may = useMay("run");
  const deciding = useMutation({
    mutationFn: decide,
    onSuccess: async () => {
      clear();
      await Promise.all(
        [["results"], ["run"], ["evidence"], ["preview-export"], ["matching"], keys.lists].map((queryKey) =>
          client.invalidateQueries({ queryKey }),
        ),
      );
    },
  });
  const asking = useMutation({
    mutationFn: ask,
    onSuccess: (r) => {
      clear();
      client.setQueryData(keys.run(run.id), r);
    },
  });
  const error = deciding.error ?? asking.error;
  return (
    <section className="chosen" aria-label="What can be done with the chosen">
      <strong role="status">{says}</strong>
      <span className="acts">
        {!many &&
          may &&
          overrides.map(([d, label]) => (
            <Button
              key={d}
              size="small"
              loading={deciding.isPending && deciding.variables === d}
              onClick={() => deciding.mutate(d)}
            >
              {label}
            </Button>
          ))}
        {many && <span className="quiet">For this many, a rule of a policy is better.</span>}
        {may && run.state === "finished" && (
          <Button size="small" loading={asking.isPending} onClick={() => asking.mutate()}>
            Ask again
          </Button>
        )}
        {!("overridden" in out) && (
          <Button
            size="small"
            onClick={() => void go(`/runs/${run.id}/export?${new URLSearchParams({ decision: "all", ...out })}`)}
          >
            Export the chosen
          </Button>
        )}
        {children}
        <button type="button" className="plain" onClick={clear}>
          Choose none
        </button>
      </span>
      {error && <Trouble error={error} />}
    </section>
  );
}
