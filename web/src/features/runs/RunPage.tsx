import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { type ReactNode, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Run, told } from "../../api/client";
import { keys, useRun, useWords } from "../../api/hooks";
import { ActsHead } from "../../parts/ActsHead";
import { Flow } from "../../parts/Flow";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Reasons } from "../../parts/Reasons";
import { glyphs, number, plural, report, tones } from "../../words";
import { Life } from "./Life";
import { Live } from "./Live";

export function RunPage() {
  const id = Number(useParams().id);
  const run = useRun(id);
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return <Wait for="the run" />;
  return <Whole run={run.data} />;
}

function Whole({ run }: { run: Run }) {
  const go = useNavigate();
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →{" "}
        <Link to={`/lists/${run.listId}`}>
          <bdi>{run.listName}</bdi>
        </Link>{" "}
        →
      </p>
      <div className="title">
        <h1>
          Run {run.id}: {run.state}
        </h1>
        <span className="acts">
          <For scope="run">
            {!run.finishedAt && <Life run={run} />}
            {run.state === "finished" && run.mayAsk > 0 && (
              <AskAgain run={run} which={{}}>
                Ask again about {plural(run.mayAsk, "address", "addresses")}
              </AskAgain>
            )}
          </For>
          {run.done > 0 && <Button href={report(run.id, "pdf")}>Report</Button>}
          <Button onClick={() => void go(`/runs/${run.id}/domains`)} disabled={run.done === 0}>
            Domains
          </Button>
          <Button onClick={() => void go(`/runs/${run.id}/results`)} disabled={run.done === 0}>
            See the results
          </Button>
          <Button onClick={() => void go(`/runs/${run.id}/write-back`)} disabled={run.done === 0}>
            Write back
          </Button>
          <Button
            type={run.finishedAt ? "primary" : "default"}
            onClick={() => void go(`/runs/${run.id}/export`)}
            disabled={run.done === 0}
          >
            Export the kept rows
          </Button>
        </span>
      </div>
      <Sentence>{run.finishedAt ? run.exportSentence : run.sentence}</Sentence>
      {run.cost && <p>{run.cost}</p>}
      <Reused run={run} />
      {run.estimate && <p className="quiet">{run.estimate}</p>}
      {run.notices.map((n) => (
        <Alert key={n} type="warning" role="status" title={n} className="notice" />
      ))}
      {!run.finishedAt && run.state !== "drafted" && <Live run={run} />}
      <Flow run={run} />
      <div className="halves">
        <Decisions run={run} />
        <Causes run={run} />
      </div>
    </>
  );
}

/** AskAgain opens a finished run again for some of its addresses. */
function AskAgain({ run, which, children }: { run: Run; which: { causes?: string[] }; children: ReactNode }) {
  const client = useQueryClient();
  const ask = useMutation({
    mutationFn: async () =>
      told(await api.POST("/runs/{id}/ask-again", { params: { path: { id: run.id } }, body: which })),
    onSuccess: (r) => client.setQueryData(keys.run(run.id), r),
  });
  return (
    <>
      <Button size={which.causes ? "small" : "middle"} loading={ask.isPending} onClick={() => ask.mutate()}>
        {children}
      </Button>
      {ask.error && <Trouble error={ask.error} />}
    </>
  );
}

/** Reused says what was known from before. */
function Reused({ run }: { run: Run }) {
  const parts = [
    run.reused > 0 && plural(run.reused, "result", "results"),
    run.known > 0 && `how the hosts of ${plural(run.known, "domain")} take mail`,
  ].filter(Boolean);
  if (parts.length === 0) return null;
  return <p className="quiet">Known from earlier runs: {parts.join("; ")}.</p>;
}

function Decisions({ run }: { run: Run }) {
  return (
    <section>
      <h2>What will be done with the {number(run.rows)} rows</h2>
      <Reasons counts={run.decisions} overrides={`/runs/${run.id}/results?overridden=true`} />
    </section>
  );
}

/** Meaning is what a cause means, and what to do. */
function Meaning({ of }: { of: { meaning: string; advice: string } | undefined }) {
  return of ? (
    <small className="quiet">
      {of.meaning} {of.advice}
    </small>
  ) : null;
}

/** shownCauses is how many causes are shown unless all are asked for. */
const shownCauses = 8;

function Causes({ run }: { run: Run }) {
  const words = useWords();
  const [all, setAll] = useState(false);
  const causes = run.causes.toSorted((a, b) => b.addresses - a.addresses);
  return (
    <section>
      <h2>Findings and causes of the {number(run.done)} concluded addresses</h2>
      <table className="rows narrow">
        <thead>
          <tr>
            <th>Finding</th>
            <th>Cause</th>
            <th className="number">Addresses</th>
            <ActsHead />
          </tr>
        </thead>
        <tbody>
          {causes.slice(0, all ? undefined : shownCauses).map((c) => (
            <tr key={c.finding + c.cause}>
              <td className={`${tones[c.finding]} finding`}>
                <span aria-hidden="true">{glyphs[tones[c.finding]]}</span> {c.finding}
              </td>
              <td>
                <Link to={`/runs/${run.id}/results?cause=${c.cause}`}>{c.title}</Link>
                <Meaning of={words.data?.causes.find((w) => w.code === c.cause)} />
              </td>
              <td className="number">{number(c.addresses)}</td>
              <td>
                {run.state === "finished" && c.askAgain && (
                  <AskAgain run={run} which={{ causes: [c.cause] }}>
                    Ask again<span className="unseen">: {c.title}</span>
                  </AskAgain>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!all && causes.length > shownCauses && (
        <Button className="fold" onClick={() => setAll(true)}>
          Show {plural(causes.length - shownCauses, "rarer cause")}
        </Button>
      )}
    </section>
  );
}
