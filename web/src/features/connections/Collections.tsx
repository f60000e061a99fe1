import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { For, useMay } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number } from "../../words";
import { connectionKeys, useCollections, useImports } from "./queries";

/** Collections shows what a connection offers to import, and what was imported from it. */
export function Collections({ of: c }: { of: Schema<"Connection"> }) {
  const may = useMay("import");
  const collections = useCollections(c.id, may && c.works);
  const imports = useImports(c.id);
  const client = useQueryClient();
  const begin = useMutation({
    mutationFn: async (collection: string) =>
      told(await api.POST("/connections/{id}/imports", { params: { path: { id: c.id } }, body: { collection } })),
    onSuccess: () => client.invalidateQueries({ queryKey: connectionKeys.imports(c.id) }),
  });
  const underWay = new Map(imports.data?.filter((i) => !i.endedAt).map((i) => [i.collection, i]));
  return (
    <section>
      <h2>What can be imported</h2>
      {(collections.error ?? begin.error) && (
        <Trouble error={(collections.error ?? begin.error)!} again={() => void collections.refetch()} />
      )}
      {may && c.works && !collections.data && !collections.error && <Wait for="the place" />}
      {collections.data && (
        <Scroll label="What can be imported">
          <table className="rows">
            <thead>
              <tr>
                <th>Collection</th>
                <th className="number">Contacts</th>
                <th>List</th>
                <ActsHead />
              </tr>
            </thead>
            <tbody>
              {collections.data.map((k) => (
                <tr key={k.id}>
                  <td>
                    <bdi>{k.name}</bdi>
                    <small className="quiet">{k.kind}</small>
                  </td>
                  <td className="number">{k.contacts < 0 ? "" : number(k.contacts)}</td>
                  <td>
                    {underWay.get(k.id)?.says ??
                      (k.listId ? <Link to={`/lists/${k.listId}`}>List {k.listId}</Link> : "not imported yet")}
                  </td>
                  <td>
                    <For scope="import">
                      {!underWay.has(k.id) && (
                        <Act of={k.name} onClick={() => begin.mutate(k.id)}>
                          {k.listId ? "Import it again" : "Import it"}
                        </Act>
                      )}
                    </For>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      <Imports of={imports.data ?? []} />
    </section>
  );
}

/** shownImports is how many imports are shown. */
const shownImports = 8;

function Imports({ of: all }: { of: Schema<"Import">[] }) {
  if (all.length === 0) return null;
  return (
    <>
      <h2>Imported</h2>
      <Scroll label="Imported">
        <table className="rows">
          <thead>
            <tr>
              <th>Collection</th>
              <th>Begun</th>
              <th>What came of it</th>
            </tr>
          </thead>
          <tbody>
            {all.slice(0, shownImports).map((i) => (
              <tr key={i.id}>
                <td>
                  <bdi>{i.name}</bdi>
                </td>
                <td>
                  <When at={i.begunAt} />
                </td>
                <td>
                  {i.state === "failed" && <strong>Failed. </strong>}
                  {i.listId ? (
                    <Link to={`/lists/${i.listId}`}>
                      <bdi>{i.says}</bdi>
                    </Link>
                  ) : (
                    <bdi>{i.says}</bdi>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </>
  );
}
