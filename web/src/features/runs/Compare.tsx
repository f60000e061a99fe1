import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, told } from "../../api/client";
import { useRun } from "../../api/hooks";
import { AddressText } from "../../parts/AddressText";
import { EvidenceDrawer } from "../../parts/EvidenceDrawer";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { glyphs, number, tones } from "../../words";

/** Compare shows who changed from what to what between two runs of a list. */
export function Compare() {
  const { id, other } = useParams();
  const run = useRun(Number(id));
  const [open, setOpen] = useState<number>();
  const compared = useQuery({
    queryKey: ["compare", id, other],
    queryFn: async () =>
      told(await api.GET("/runs/{id}/compare/{other}", { params: { path: { id: Number(id), other: Number(other) } } })),
  });
  const path = (
    <p className="path">
      <Link to="/lists">Lists</Link> →{" "}
      {run.data && (
        <>
          <Link to={`/lists/${run.data.listId}`}>
            <bdi>{run.data.listName}</bdi>
          </Link>{" "}
          →
        </>
      )}
    </p>
  );
  const trouble = run.error ?? compared.error;
  if (trouble)
    return (
      <>
        {path}
        <Trouble error={trouble} again={() => void compared.refetch()} />
      </>
    );
  if (!run.data || !compared.data) return <Wait for="the two runs" />;
  const c = compared.data;
  return (
    <>
      {path}
      <h1>
        From run {other} to run {id}
      </h1>
      <Sentence>{c.sentence}</Sentence>
      {c.changes.length > 0 && (
        <table className="rows narrow">
          <thead>
            <tr>
              <th>Was</th>
              <th>Is now</th>
              <th className="number">Addresses</th>
            </tr>
          </thead>
          <tbody>
            {c.changes.map((m) => (
              <tr key={m.from + m.to}>
                <td>
                  <Finding of={m.from} />
                </td>
                <td>
                  <Finding of={m.to} />
                </td>
                <td className="number">{number(m.addresses)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {c.rows.length > 0 && (
        <section>
          <h2>{c.rows.length === 200 ? "The first 200 of them" : "Who changed"}</h2>
          <Scroll label="Who changed">
            <table className="rows">
              <thead>
                <tr>
                  <th>Address</th>
                  <th>Was</th>
                  <th>Is now</th>
                  <th>Why</th>
                </tr>
              </thead>
              <tbody>
                {c.rows.map((r) => (
                  <tr key={r.ordinal}>
                    <td>
                      <button type="button" className="plain" onClick={() => setOpen(r.ordinal)}>
                        <AddressText text={r.typed} />
                      </button>
                    </td>
                    <td>
                      <Finding of={r.from} />
                    </td>
                    <td>
                      <Finding of={r.to} />
                    </td>
                    <td>{r.title}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        </section>
      )}
      <EvidenceDrawer run={Number(id)} ordinal={open} onClose={() => setOpen(undefined)} />
    </>
  );
}

function Finding({ of }: { of: keyof typeof tones }) {
  return (
    <span className={tones[of]}>
      <span aria-hidden="true">{glyphs[tones[of]]}</span> {of}
    </span>
  );
}
