import { Button } from "antd";
import { Link } from "react-router";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { useConnections, useKinds } from "./queries";

/** Connections shows the places that contacts live in. */
export function Connections() {
  const connections = useConnections();
  const kinds = useKinds();
  return (
    <>
      <div className="title">
        <h1>Connections</h1>
        <For scope="manage">
          <Link to="/connections/new">
            <Button type="primary">New connection</Button>
          </Link>
        </For>
      </div>
      {connections.error && <Trouble error={connections.error} again={() => void connections.refetch()} />}
      {!connections.data && !connections.error && <Wait for="the connections" />}
      {connections.data?.length === 0 && (
        <>
          <p>
            There is no connection yet. A connection leads to the place where your contacts live: import a group of
            them, verify it, and write the result back there, as a field, a tag, a new group or on the suppression list.
          </p>
          <ul>
            {kinds.data?.map((k) => (
              <li key={k.code}>
                <strong>{k.title}</strong>: {k.says}
              </li>
            ))}
          </ul>
        </>
      )}
      {connections.data && connections.data.length > 0 && (
        <Scroll label="Connections">
          <table className="rows">
            <thead>
              <tr>
                <th>Connection</th>
                <th>State</th>
                <th>Tested</th>
              </tr>
            </thead>
            <tbody>
              {connections.data.map((c) => (
                <tr key={c.id}>
                  <td>
                    <Link to={`/connections/${c.id}`} className="name">
                      <bdi>{c.name}</bdi>
                    </Link>
                    <small className="quiet">{kinds.data?.find((k) => k.code === c.kind)?.title}</small>
                  </td>
                  <td>
                    {!c.works && <strong>It does not work. </strong>}
                    <bdi>{c.says}</bdi>
                  </td>
                  <td>{c.testedAt ? <When at={c.testedAt} /> : "never"}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </>
  );
}
