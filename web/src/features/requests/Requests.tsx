import { Button, Input } from "antd";
import { type FormEvent, useState } from "react";
import type { Schema } from "../../api/client";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { Held } from "./Held";
import { useLook, useRequests } from "./queries";

/** Requests answers persons who ask what is held about their address, or want it erased. */
export function Requests() {
  const look = useLook();
  const [typed, setTyped] = useState("");
  const send = (e: FormEvent) => {
    e.preventDefault();
    look.mutate(typed.trim());
  };
  return (
    <>
      <h1>Requests</h1>
      <p>
        Whoever finds their address on a list may ask what is held about it, and to have it erased. Look it up, give
        them the file, erase it if they want that.
      </p>
      <form className="add" onSubmit={send}>
        <Input
          aria-label="Address of the person"
          placeholder="maya.okafor@willowpost.example"
          value={typed}
          maxLength={400}
          autoComplete="off"
          onChange={(e) => setTyped(e.target.value)}
        />
        <Button type="primary" htmlType="submit" disabled={!typed.trim()} loading={look.isPending}>
          Look it up
        </Button>
      </form>
      {look.error && <Trouble error={look.error} />}
      {look.data && <Held key={look.submittedAt} of={look.data} again={() => look.mutate(look.data.address)} />}
      <Answered />
    </>
  );
}

const kinds: Record<Schema<"RightsRequest">["kind"], string> = {
  file: "file written",
  erase: "erased",
  allow: "allowed again",
};

/** Answered lists what was asked for so far. None of it names an address. */
function Answered() {
  const requests = useRequests();
  if (requests.error) return <Trouble error={requests.error} again={() => void requests.refetch()} />;
  if (!requests.data) return <Wait for="the requests" />;
  return (
    <section>
      <h2>Answered so far</h2>
      {requests.data.length === 0 ? (
        <Sentence>Nobody has made a request yet.</Sentence>
      ) : (
        <Scroll label="Requests">
          <table className="rows">
            <thead>
              <tr>
                <th className="number">Number</th>
                <th>When</th>
                <th>What</th>
                <th>Address, by its mark</th>
                <th>By</th>
                <th>Done</th>
              </tr>
            </thead>
            <tbody>
              {requests.data.map((r) => (
                <tr key={r.id}>
                  <td className="number">{r.id}</td>
                  <td>
                    <When at={r.begunAt} />
                  </td>
                  <td>{r.state === "working" ? "being erased" : kinds[r.kind]}</td>
                  <td>
                    <code>{r.mark}</code>
                  </td>
                  <td>
                    <bdi>{r.byWhom}</bdi>
                  </td>
                  <td>{r.says}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </section>
  );
}
