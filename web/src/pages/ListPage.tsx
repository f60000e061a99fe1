import { useMutation } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { Link, useNavigate, useParams } from "react-router";
import { api, told } from "../api/client";
import { useList } from "../api/hooks";
import { useStanding } from "../api/sending";
import { Sentence, Trouble, Wait } from "../parts/Notice";

export function ListPage() {
  const id = Number(useParams().id);
  const list = useList(id);
  const go = useNavigate();
  const standing = useStanding();
  const start = useMutation({
    mutationFn: async () => told(await api.POST("/lists/{id}/runs", { params: { path: { id } }, body: { depth: "mailbox", policy: "careful" } })),
    onSuccess: (run) => void go(`/runs/${run.id}`),
  });
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return <Wait for="the list" />;
  const run = list.data.lastRun;
  return (
    <>
      <p className="path"><Link to="/lists">Lists</Link> →</p>
      <h1><bdi>{list.data.name}</bdi></h1>
      <Sentence>{list.data.sentence}</Sentence>
      {list.data.addresses < list.data.rows && <p><a href={`/api/v1/lists/${id}/problems`} download>The rows that are not a plain address of their own, as a file</a>: empty, repeated, mended or no address, each with its line.</p>}
      {run && <p>The last run: <Link to={`/runs/${run.id}`}>{run.sentence}</Link></p>}
      <p>A run checks every address for its form, its domain, its mail host and its mailbox. No message is sent to anybody. It goes on when you close this page.</p>
      {standing.data && standing.data.state !== "ready" && (
        <Alert type="warning" role="status" className="notice" title={<>The sending side is {standing.data.state}. {standing.data.says} <Link to="/sending">Look at the sending side</Link></>} />
      )}
      {start.error && <Trouble error={start.error} />}
      <Button type="primary" size="large" loading={start.isPending} onClick={() => start.mutate()}>{run ? "Start another run" : "Start the run"}</Button>
    </>
  );
}
