import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Button, Segmented } from "antd";
import { Link, useParams, useSearchParams } from "react-router";
import { api, type ExportPreview, told } from "../../api/client";
import { usePolicies, useRun } from "../../api/hooks";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Reasons } from "../../parts/Reasons";
import { RunPath } from "../../parts/RunPath";
import { glyphs, plural, report } from "../../words";
import { Register } from "../bounces/Register";
import { Choices } from "./Choices";
import { FirstRows } from "./FirstRows";
import { Links } from "./Links";
import { queryOf, which } from "./query";

export function Export() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const policies = usePolicies();
  const [search, setSearch] = useSearchParams();
  const change = (values: Record<string, string | undefined>) =>
    setSearch(
      (old) => {
        const next = new URLSearchParams(old);
        for (const [name, value] of Object.entries(values)) value ? next.set(name, value) : next.delete(name);
        return next;
      },
      { replace: true },
    );
  const query = queryOf(search);
  const out = useQuery({
    queryKey: ["preview-export", id, query, run.data?.done, run.data?.policy, run.data?.version],
    enabled: run.data !== undefined,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      told(await api.GET("/runs/{id}/export", { params: { path: { id }, query: { ...query, first: 8 } } })),
  });
  const error = run.error ?? out.error;
  if (error) return <Trouble error={error} again={() => void out.refetch()} />;
  if (!run.data || !out.data) return <Wait for="the counts" />;
  const policy = query.policy ?? run.data.policy;
  const by = policies.data?.find((p) => p.name === policy);
  const file = `/api/v1/runs/${id}/export/file?${new URLSearchParams(Object.entries(query).map(([k, v]) => [k, String(v)]))}`;
  return (
    <>
      <RunPath run={run.data} />
      <h1>Export</h1>
      <Segmented
        aria-label="Which rows"
        value={query.decision ?? "keep"}
        onChange={(d) => change({ decision: d })}
        options={which.map((d) => ({ value: d, label: d === "all" ? "all rows" : `${glyphs[d]} ${d}` }))}
      />
      <Sentence>{out.data.sentence}</Sentence>
      {run.data.open > 0 && (
        <p>
          The run is not at its end: {plural(run.data.open, "address is", "addresses are")} not concluded yet and count
          as held.
        </p>
      )}
      <Choices query={query} policy={policy} policies={policies.data ?? []} out={out.data} change={change} />
      <div className="acts">
        <For
          scope="export"
          otherwise={<p>You can look at this, but not export. An owner of the workspace can change that.</p>}
        >
          <Button type="primary" size="large" href={file} download={out.data.fileName} disabled={out.data.rows === 0}>
            Write {plural(out.data.rows, "row")} to {out.data.fileName}
          </Button>
          <Copy run={id} query={query} out={out.data} />
        </For>
      </div>
      <p>
        To show a colleague, the one-page report: <a href={report(id, "pdf")}>as PDF</a> or{" "}
        <a href={report(id, "html")}>as HTML</a>.
      </p>
      {by && (
        <details>
          <summary>
            Decided by {by.name}: {by.for} Changing the policy asks nobody again.
          </summary>
          <ol>
            {by.says.map((s) => (
              <li key={s}>{s}</li>
            ))}
          </ol>
          <Link to={`/policies?run=${id}`}>See and write policies</Link>
        </details>
      )}
      <For scope="export">
        <Links run={id} query={query} />
      </For>
      <For scope="run">
        <Register run={id} list={run.data.listName} />
        <p>
          <Link to={`/runs/${id}/settle`}>Settle catch-all addresses by trial letters</Link>
        </p>
      </For>
      <FirstRows out={out.data} />
      <h2>Why rows are kept, held or dropped</h2>
      <Reasons counts={out.data.counts} />
    </>
  );
}

/** What goes to the clipboard is held in memory: not more than so many rows. */
const mostCopied = 100_000;

function Copy({ run, query, out }: { run: number; query: ReturnType<typeof queryOf>; out: ExportPreview }) {
  const copy = useMutation({
    mutationFn: async () => {
      const text = told(
        await api.GET("/runs/{id}/export/file", {
          params: {
            path: { id: run },
            query: { ...query, form: "addresses", format: "txt", apart: undefined, rowsEach: undefined },
          },
          parseAs: "text",
        }),
      ) as unknown as string;
      await navigator.clipboard.writeText(text);
    },
  });
  if (out.rows === 0 || out.rows > mostCopied) return null;
  return (
    <>
      <Button size="large" loading={copy.isPending} onClick={() => copy.mutate()}>
        {copy.isSuccess ? "Copied" : "Copy the addresses"}
      </Button>
      {copy.error && <Trouble error={copy.error} />}
    </>
  );
}
