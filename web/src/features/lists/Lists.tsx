import { Button } from "antd";
import { type DragEvent, lazy, Suspense, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { List } from "../../api/client";
import { useLists, useSession, useSettled } from "../../api/hooks";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { For, useMay } from "../../parts/For";
import { handOver } from "../../parts/handed";
import { MiniFlow } from "../../parts/MiniFlow";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { When } from "../../parts/When";
import { number, share } from "../../words";
import type { Order } from "./Find";

// What few look at comes when it is wanted: the first page stays small.
const Find = lazy(async () => ({ default: (await import("./Find")).Find }));
const Archive = lazy(async () => ({ default: (await import("./Archive")).Archive }));
const Guide = lazy(async () => ({ default: (await import("./Guide")).Guide }));
const Delete = lazy(async () => ({ default: (await import("./Delete")).Delete }));

/** Lists shows the lists. A file can be dropped anywhere on the page. */
export function Lists() {
  const [search] = useSearchParams();
  const archived = search.get("archived") === "true";
  const [text, setText] = useState("");
  const [order, setOrder] = useState<Order>("newest");
  const looked = useSettled(text.trim(), 250);
  const lists = useLists({ archived, search: looked, order });
  const none = lists.data?.length === 0;
  const go = useNavigate();
  const may = useMay("import");
  const session = useSession();
  const [over, setOver] = useState(false);
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    const file = e.dataTransfer.files[0];
    if (!file || !may) return;
    handOver(file);
    void go("/import");
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: a file may be dropped anywhere; the button does the same
    <div
      className={over ? "whole-page over" : "whole-page"}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <div className="title">
        <h1>{archived ? "Archived lists" : "Lists"}</h1>
        <For scope="import">
          <span className="acts">
            {lists.data && lists.data.length > 0 && <Link to="/workshop">Lists from lists</Link>}
            <Button type="primary" onClick={() => void go("/import")}>
              Import a list
            </Button>
          </span>
        </For>
      </div>
      {session.data?.guide && may && !archived && (
        <Suspense fallback={null}>
          <Guide of={session.data.guide} />
        </Suspense>
      )}
      {lists.data && (lists.data.length > 5 || text !== "") && (
        <Suspense fallback={null}>
          <Find text={text} onText={setText} order={order} onOrder={setOrder} />
        </Suspense>
      )}
      {lists.isPending && <Wait for="your lists" />}
      {lists.error && <Trouble error={lists.error} again={() => void lists.refetch()} />}
      {none && looked && <p>No list has this in its name.</p>}
      {archived && none && !looked && <p>No list is archived.</p>}
      {!archived && none && !looked && (
        <Sentence>
          There is no list yet.{" "}
          {may &&
            !session.data?.guide &&
            "Drop a file anywhere on this page: any CSV or spreadsheet with a column of addresses will do."}
        </Sentence>
      )}
      {lists.data && lists.data.length > 0 && <Table lists={lists.data} />}
      {lists.hasNextPage && (
        <Button loading={lists.isFetchingNextPage} onClick={() => void lists.fetchNextPage()}>
          Show 50 more
        </Button>
      )}
      {lists.data && (
        <p className="after">
          {may && !archived && lists.data.length > 0 && (
            <span className="quiet">Drop a file anywhere on this page to import it. </span>
          )}
          {archived ? <Link to="/lists">All other lists</Link> : <Link to="/lists?archived=true">Archived lists</Link>}
        </p>
      )}
    </div>
  );
}

function Table({ lists }: { lists: List[] }) {
  return (
    <div className="scroll">
      <table className="rows lists">
        <thead>
          <tr>
            <th>List</th>
            <th className="number">Rows</th>
            <th className="number">Addresses</th>
            <th>Last run</th>
            <th>Kept</th>
            <th>Imported</th>
            <ActsHead />
          </tr>
        </thead>
        <tbody>
          {lists.map((l) => (
            <Row key={l.id} list={l} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Row({ list: l }: { list: List }) {
  const run = l.lastRun;
  const [asks, setAsks] = useState(false);
  return (
    <tr>
      <td>
        <Link to={run ? `/runs/${run.id}` : `/lists/${l.id}`} className="name">
          <bdi>{l.name}</bdi>
        </Link>
      </td>
      <td className="number">{number(l.rows)}</td>
      <td className="number">{number(l.addresses)}</td>
      <td>
        {run ? (
          <>
            <MiniFlow run={run} />
            <span className="quiet">{run.state === "finished" ? <When at={run.finishedAt!} /> : run.sentence}</span>
          </>
        ) : (
          <Link to={`/lists/${l.id}`}>not run yet: start one</Link>
        )}
      </td>
      <td>
        {run && <Link to={`/runs/${run.id}/export`}>{number(run.kept)}</Link>}
        {run && <span className="quiet">{share(run.kept, l.rows, "rows")}</span>}
      </td>
      <td className="quiet">
        <When at={l.createdAt} />
      </td>
      <td>
        <span className="row-acts">
          <For scope="import">
            <Suspense fallback={null}>
              <Archive list={l} />
            </Suspense>
            <Act of={l.name} onClick={() => setAsks(true)}>
              Delete
            </Act>
          </For>
        </span>
        {asks && (
          <Suspense fallback={null}>
            <Delete list={l} done={() => setAsks(false)} />
          </Suspense>
        )}
      </td>
    </tr>
  );
}
