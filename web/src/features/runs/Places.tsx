import { useInfiniteQuery } from "@tanstack/react-query";
import { Button } from "antd";
import type { ReactNode } from "react";
import type { Run } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { number, plural } from "../../words";

const pageSize = 50;
type Page = { cursor?: string | undefined; limit: number };
type Kind<Place> = {
  /** What a place is called, and the heads of its columns. */
  one: string;
  heads: [string, string, string, string];
  name: (place: Place) => string;
  load: (page: Page) => Promise<{ items: Place[]; next?: string | undefined }>;
  row: (place: Place, most: number) => ReactNode;
};

/** Places lists domains or operators, the largest first, page after page. */
export function Places<Place extends { addresses: number }>({
  run,
  search,
  kind,
}: {
  run: Run;
  search: string;
  kind: Kind<Place>;
}) {
  const pages = useInfiniteQuery({
    queryKey: ["places", run.id, kind.one, search, run.finishedAt ?? "live"],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) => kind.load({ cursor: pageParam, limit: pageSize }),
    getNextPageParam: (last) => last.next,
  });
  if (pages.error) return <Trouble error={pages.error} again={() => void pages.refetch()} />;
  if (!pages.data) return <Wait for={`the ${kind.one}s`} />;
  const places = pages.data.pages.flatMap((p) => p.items);
  if (places.length === 0)
    return <p>{search ? `No ${kind.one} of the list has this in its name.` : `No ${kind.one} is known yet.`}</p>;
  const [name, size, found, more] = kind.heads;
  return (
    <>
      <p className="quiet" role="status">
        {pages.hasNextPage
          ? `The first ${number(places.length)}, the largest first.`
          : `${plural(places.length, kind.one)}, the largest first.`}
      </p>
      <Scroll label={`${name}s`}>
        <table className="rows">
          <thead>
            <tr>
              <th>{name}</th>
              <th className="number">{size}</th>
              <th>{found}</th>
              <th>{more}</th>
            </tr>
          </thead>
          <tbody>{places.map((p) => kind.row(p, places[0]!.addresses))}</tbody>
        </table>
      </Scroll>
      {pages.hasNextPage && (
        <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show {pageSize} more
        </Button>
      )}
    </>
  );
}
