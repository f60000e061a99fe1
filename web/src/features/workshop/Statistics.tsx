import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { useList, useWords } from "../../api/hooks";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { number, plural, share } from "../../words";
import { type Condition, hashOf } from "./steps";

type Share = Schema<"DomainShare">;

/** Statistics is what the domains of a list tell before any address is verified. */
export function Statistics() {
  const id = Number(useParams().id);
  const list = useList(id);
  const words = useWords();
  const domains = useQuery({
    queryKey: ["list-domains", id],
    queryFn: async () => told(await api.GET("/lists/{id}/domains", { params: { path: { id } } })),
  });
  const error = list.error ?? domains.error;
  if (error) return <Trouble error={error} again={() => void domains.refetch()} />;
  if (!list.data || !domains.data) return <Wait for="the domains" />;
  const d = domains.data;
  const slice = (c: Condition) => `/workshop${hashOf({ listId: id, steps: [{ do: "slice", conditions: [c] }] })}`;
  const title = (trait: string) => words.data?.traits.find((t) => t.code === trait)?.title ?? trait;
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →{" "}
        <Link to={`/lists/${id}`}>
          <bdi>{list.data.name}</bdi>
        </Link>{" "}
        →
      </p>
      <h1>Domains of the list</h1>
      <Sentence>{d.says}</Sentence>
      <p className="quiet">Nobody was asked. A name leads to its rows in the workshop.</p>
      <div className="halves even">
        <Shares
          title="Domains by size"
          of={d.largest}
          whole={d.addresses}
          to={(s) => slice({ fact: "domain", test: "is", values: [s.name] })}
          beside={(s) => (s.traits ?? []).map(title).join(", ")}
        />
        <div>
          <Shares
            title="What the domains are"
            of={d.traits}
            whole={d.addresses}
            name={(s) => title(s.name)}
            to={(s) => slice({ fact: "trait", test: "is", values: [s.name] })}
          />
          <Shares
            title="Operators"
            of={d.operators}
            whole={d.addresses}
            to={(s) => slice({ fact: "operator", test: "is", values: [s.name] })}
            beside={(s) => plural(s.domains, "domain")}
          >
            <p className="quiet">
              {d.operators.length === 0
                ? "No run has found the operators of these domains yet."
                : d.unknown > 0 && `Of ${share(d.unknown, d.addresses, "addresses")} the operator is not known yet.`}
            </p>
          </Shares>
          <Shares
            title="Suffixes"
            of={d.countries}
            whole={d.addresses}
            name={(s) => `.${s.name}`}
            to={(s) => slice({ fact: "domain", test: "pattern", values: [`\\.${s.name}$`] })}
            beside={(s) => s.title ?? ""}
          />
        </div>
      </div>
      {d.suspicious.length > 0 && (
        <Shares
          title="Suspicious domains"
          of={d.suspicious}
          whole={d.addresses}
          to={(s) => slice({ fact: "domain", test: "is", values: [s.name] })}
          beside={(s) =>
            [...(s.traits ?? []).map(title), s.meant && `perhaps ${s.meant} was meant`].filter(Boolean).join("; ")
          }
        />
      )}
    </>
  );
}

/** Widths has all the bars of the page begin and end alike. */
const Widths = () => (
  <colgroup>
    <col className="share-name" />
    <col />
    <col className="share-number" />
  </colgroup>
);

/** shownShares is how many are shown before the others are unfolded. */
const shownShares = 10;

/** Shares is a bar for each, as long as its part of the addresses, and its number. */
function Shares({
  title,
  of,
  whole,
  to,
  name = (s) => s.name,
  beside = () => "",
  children,
}: {
  title: string;
  of: Share[];
  whole: number;
  to: (s: Share) => string;
  name?: (s: Share) => string;
  beside?: (s: Share) => string;
  children?: React.ReactNode;
}) {
  const most = Math.max(1, ...of.map((s) => s.addresses));
  const row = (s: Share) => (
    <tr key={s.name}>
      <td>
        <Link to={to(s)}>
          <bdi>{name(s)}</bdi>
        </Link>
        {beside(s) && <small className="quiet"> {beside(s)}</small>}
      </td>
      <td className="share-bar" aria-hidden="true">
        <span style={{ width: `${(100 * s.addresses) / most}%` }} />
      </td>
      <td className="number">{number(s.addresses)}</td>
    </tr>
  );
  return (
    <section>
      <h2>{title}</h2>
      {of.length > 0 && (
        <table className="rows shares">
          <Widths />
          <thead>
            <tr>
              <th colSpan={2}>Name</th>
              <th className="number">of {plural(whole, "address", "addresses")}</th>
            </tr>
          </thead>
          <tbody>{of.slice(0, shownShares).map(row)}</tbody>
        </table>
      )}
      {of.length > shownShares && (
        <details className="fold">
          <summary>{plural(of.length - shownShares, "more", "more")}</summary>
          <table className="rows shares">
            <Widths />
            <tbody>{of.slice(shownShares).map(row)}</tbody>
          </table>
        </details>
      )}
      {children}
    </section>
  );
}
