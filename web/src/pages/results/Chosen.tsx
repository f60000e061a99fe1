import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useNavigate } from "react-router";
import { api, told, type Result, type Run, type Schema } from "../../api/client";
import { keys } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";
import { glyphs, plural } from "../../words";

type Hand = Schema<"ByHand">["decision"];
/** What one can do by hand, and what it is called. */
const byHand: [Hand, string][] = [["keep", `${glyphs.keep} Keep`], ["hold", `${glyphs.hold} Hold`], ["drop", `${glyphs.drop} Strike`], ["policy", "As the policy says"]];

/** Chosen is what can be done with the addresses that were chosen. */
export function Chosen({ run, chosen, clear }: { run: Run; chosen: Result[]; clear: () => void }) {
  const client = useQueryClient();
  const go = useNavigate();
  const addresses = chosen.map((r) => r.address);
  const decide = useMutation({
    mutationFn: async (decision: Hand) => told(await api.POST("/lists/{id}/by-hand", { params: { path: { id: run.listId } }, body: { addresses, decision } })),
    onSuccess: async () => { clear(); await Promise.all([["results"], ["run"], ["evidence"], ["take-out"], keys.lists].map((queryKey) => client.invalidateQueries({ queryKey }))); },
  });
  const ask = useMutation({
    mutationFn: async () => told(await api.POST("/runs/{id}/ask-again", { params: { path: { id: run.id } }, body: { addresses } })),
    onSuccess: (r) => { clear(); client.setQueryData(keys.run(run.id), r); },
  });
  const copy = useMutation({ mutationFn: () => navigator.clipboard.writeText(chosen.map((r) => r.mailbox ?? r.typed).join("\n") + "\n") });
  const error = decide.error ?? ask.error ?? copy.error;
  if (chosen.length === 0) return null;
  return (
    <section className="chosen" aria-label="What can be done with the chosen">
      <strong role="status">{plural(chosen.length, "address", "addresses")} chosen.</strong>
      <span className="acts">
        {byHand.map(([d, label]) => <Button key={d} size="small" loading={decide.isPending && decide.variables === d} onClick={() => decide.mutate(d)}>{label}</Button>)}
        {run.state === "finished" && <Button size="small" loading={ask.isPending} onClick={() => ask.mutate()}>Ask again</Button>}
        <Button size="small" onClick={() => void go(`/runs/${run.id}/take-out?${new URLSearchParams({ decision: "all", addresses: addresses.join(",") })}`)}>Take out</Button>
        <Button size="small" onClick={() => copy.mutate()}>{copy.isSuccess ? "Copied" : "Copy"}</Button>
        <button type="button" className="plain" onClick={clear}>Choose none</button>
      </span>
      {error && <Trouble error={error} />}
    </section>
  );
}
