import { useInfiniteQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { EvidenceDrawer } from "../../parts/EvidenceDrawer";
import { Trouble, Wait } from "../../parts/Notice";

type Row = Schema<"OpinionRow">;

/** said is a finding, or that there is none. */
const said = (finding: string | undefined) => (finding === "none" ? "nothing of" : finding);

/** Apart lists the rows of a cell of the matrix, or those on which both are apart, with our evidence. */
export function Apart({ list, run, search }: { list: number; run: number | undefined; search: URLSearchParams }) {
  const query = Object.fromEntries(search) as { check: string; theirs?: "none"; ours?: "none"; apart?: "contradict" };
  const [open, setOpen] = useState<number>();
  const pages = useInfiniteQuery({
    queryKey: ["opinion-rows", list, query],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(
        await api.GET("/lists/{id}/opinion-rows", {
          params: { path: { id: list }, query: { ...query, cursor: pageParam, limit: 50 } },
        }),
      ),
    getNextPageParam: (last) => last.next,
  });
  if (pages.error) return <Trouble error={pages.error} again={() => void pages.refetch()} />;
  if (!pages.data) return <Wait for="the rows" />;
  const rows: Row[] = pages.data.pages.flatMap((p) => p.items);
  const which = query.apart
    ? "on which they contradict each other"
    : `that it found ${said(query.theirs)} and Varnet ${said(query.ours)}`;
  return (
    <section>
      <h3>Rows {which}</h3>
      {rows.length === 0 ? (
        <p>There is none.</p>
      ) : (
        <div className="scroll">
          <table className="rows">
            <thead>
              <tr>
                <th>Address</th>
                <th>Its word</th>
                <th>It found</th>
                <th>Varnet found</th>
                <th>Why</th>
                <th className="number">Odds</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((r) => (
                <tr key={r.ordinal}>
                  <td>
                    {run && r.ours ? (
                      <button type="button" className="plain" onClick={() => setOpen(r.ordinal)}>
                        <AddressText text={r.typed} />
                      </button>
                    ) : (
                      <AddressText text={r.typed} />
                    )}
                  </td>
                  <td>
                    <bdi>{r.word}</bdi>
                  </td>
                  <td>{r.theirs || "nothing"}</td>
                  <td>{r.ours || "nothing"}</td>
                  <td>{r.title}</td>
                  <td className="number">{r.ours && `${Math.round(100 * r.odds)} in 100`}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {pages.hasNextPage && (
        <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show more
        </Button>
      )}
      {run && <EvidenceDrawer run={run} ordinal={open} onClose={() => setOpen(undefined)} />}
    </section>
  );
}
