import { Button } from "antd";
import { Link, useNavigate } from "react-router";
import type { List } from "../api/client";
import { useLists } from "../api/hooks";
import { MiniFlow } from "../parts/MiniFlow";
import { Sentence, Trouble, Wait } from "../parts/Notice";
import { moment, number, share } from "../words";

export function Lists() {
  const lists = useLists();
  const go = useNavigate();
  return (
    <>
      <div className="title">
        <h1>Lists</h1>
        <Button type="primary" onClick={() => void go("/bring-in")}>Bring a list in</Button>
      </div>
      {lists.isPending && <Wait for="your lists" />}
      {lists.error && <Trouble error={lists.error} again={() => void lists.refetch()} />}
      {lists.data?.length === 0 && <Sentence>There is no list yet. Bring one in: any CSV file with a column of addresses will do.</Sentence>}
      {lists.data && lists.data.length > 0 && <Table lists={lists.data} />}
    </>
  );
}

function Table({ lists }: { lists: List[] }) {
  return (
    <div className="scroll">
      <table className="rows">
        <thead>
          <tr><th>List</th><th className="number">Rows</th><th className="number">Addresses</th><th>Last run</th><th>Kept</th><th>Brought in</th></tr>
        </thead>
        <tbody>{lists.map((l) => <Row key={l.id} list={l} />)}</tbody>
      </table>
    </div>
  );
}

function Row({ list: l }: { list: List }) {
  const run = l.lastRun;
  return (
    <tr>
      <td><Link to={run ? `/runs/${run.id}` : `/lists/${l.id}`} className="name"><bdi>{l.name}</bdi></Link></td>
      <td className="number">{number(l.rows)}</td>
      <td className="number">{number(l.addresses)}</td>
      <td>{run ? <><MiniFlow run={run} /><span className="quiet">{run.state === "finished" ? moment(run.finishedAt!) : run.sentence}</span></> : <Link to={`/lists/${l.id}`}>not run yet: start one</Link>}</td>
      <td>{run && <Link to={`/runs/${run.id}/take-out`}>{number(run.kept)} <span className="quiet">{share(run.kept, l.rows, "rows")}</span></Link>}</td>
      <td className="quiet">{moment(l.createdAt)}</td>
    </tr>
  );
}
