import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, told } from "../../api/client";
import { keys, usePolicies } from "../../api/hooks";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";

/** Policies shows all policies as sentences. */
export function Policies() {
  const policies = usePolicies();
  const [search] = useSearchParams();
  const on = search.get("run") ? `?run=${search.get("run")}` : "";
  const go = useNavigate();
  if (policies.error) return <Trouble error={policies.error} again={() => void policies.refetch()} />;
  if (!policies.data) return <Wait for="the policies" />;
  return (
    <>
      <div className="title">
        <h1>Policies</h1>
        <For scope="manage">
          <Button type="primary" onClick={() => void go(`/policies/new${on}`)}>
            Write one of your own
          </Button>
        </For>
      </div>
      <p>
        A policy decides which rows are kept, held or dropped. The first rule that matches a row decides. Changing it
        asks nobody again.
      </p>
      <ul className="parts">
        {policies.data.map((p) => (
          <li key={p.name}>
            <div className="title">
              <h2 className="part-name">
                {p.name} <span className="quiet">{p.ready ? "ready-made" : `your own, version ${p.version}`}</span>
              </h2>
              <span className="acts">
                <For scope="manage">
                  <Link to={`/policies/new?from=${p.name}${on.replace("?", "&")}`}>Copy</Link>
                  {!p.ready && <Link to={`/policies/${p.name}${on}`}>Change</Link>}
                  {!p.ready && <Remove name={p.name} />}
                </For>
              </span>
            </div>
            {p.for && <p>{p.for}</p>}
            <ol>
              {p.says.map((s) => (
                <li key={s}>{s}</li>
              ))}
            </ol>
          </li>
        ))}
      </ul>
    </>
  );
}

function Remove({ name }: { name: string }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/policies/{name}", { params: { path: { name } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.policies }),
  });
  return (
    <>
      <button type="button" className="plain" onClick={() => remove.mutate()}>
        Delete<span className="unseen"> {name}</span>
      </button>
      {remove.error && <Trouble error={remove.error} />}
    </>
  );
}
