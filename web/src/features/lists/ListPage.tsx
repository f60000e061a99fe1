import { Alert } from "antd";
import { lazy, Suspense } from "react";
import { Link, useParams } from "react-router";
import { useList } from "../../api/hooks";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { OutboundState } from "../../parts/OutboundState";
import { useReadiness } from "../outbound/queries";
import { Ages } from "./Ages";
import { Columns } from "./Columns";
import { Estimate } from "./Estimate";
import { Known } from "./Known";
import { Retention } from "./Retention";
import { Runs } from "./Runs";
import { Start } from "./Start";

const Activity = lazy(async () => ({ default: (await import("./Activity")).Activity }));

export function ListPage() {
  const id = Number(useParams().id);
  const list = useList(id);
  const readiness = useReadiness();
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return <Wait for="the list" />;
  const run = list.data.lastRun;
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →
      </p>
      <h1>
        <bdi>{list.data.name}</bdi>
      </h1>
      <Sentence>{list.data.sentence}</Sentence>
      {list.data.addresses < list.data.rows && (
        <For scope="export">
          <p>
            <a href={`/api/v1/lists/${id}/problems`} download>
              Download problem rows
            </a>
            : empty, repeated, cleaned up or not an address, each with its line.
          </p>
        </For>
      )}
      {list.data.madeOf && <p>{list.data.madeOf.join(" ")}</p>}
      <p className="acts">
        <Link to={`/lists/${id}/rows`}>Look at the rows</Link>
        <Link to={`/lists/${id}/domains`}>Its domains</Link>
        <For scope="import">
          <Link to={`/lists/${id}/meanings`}>What its columns hold</Link>
        </For>
        <Link to={`/lists/${id}/opinions`}>Second opinions</Link>
        <For scope="import">
          <Link to={`/workshop?list=${id}`}>Make another list of it</Link>
        </For>
      </p>
      <Columns list={list.data} />
      {run && (
        <p>
          The last run: <Link to={`/runs/${run.id}`}>{run.sentence}</Link>
        </p>
      )}
      {run ? <Ages run={run} /> : <Known list={list.data} />}
      <p>
        A run checks every address for its form, its domain, its mail host and its mailbox. No message is sent to
        anybody. It keeps running when you close this page.
      </p>
      {readiness.data && readiness.data.state !== "ready" && (
        <Alert type="warning" role="status" className="notice" title={<OutboundState readiness={readiness.data} />} />
      )}
      <For scope="run">
        <Start list={list.data} />
        <Estimate list={list.data} />
      </For>
      <Runs list={list.data} />
      <Suspense fallback={null}>
        <Activity list={list.data} />
      </Suspense>
      <For scope="import">
        <Retention list={list.data} />
      </For>
      <For scope="import">
        <p className="after">
          Do you have a newer file of this list? <Link to={`/import?for=${id}`}>Import it</Link> to add its rows, update
          those with the same address, or replace the list.
        </p>
      </For>
    </>
  );
}
