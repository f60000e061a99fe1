import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Switch } from "antd";
import { Link } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number } from "../../words";
import { useOdds } from "./queries";
import { Reliability, Tenths } from "./Reliability";

/** Odds shows what was learnt of catch-all addresses, and how good the odds were. */
export function Odds() {
  const odds = useOdds();
  if (odds.error) return <Trouble error={odds.error} again={() => void odds.refetch()} />;
  if (!odds.data) return <Wait for="the odds" />;
  const o = odds.data;
  return (
    <>
      <h1>Odds</h1>
      <Sentence>{o.says}</Sentence>
      {o.judged.messages === 0 ? (
        <p>
          Odds say how likely a message to a catch-all address arrives. They get better with every{" "}
          <Link to="/bounces">mailing whose bounces you import</Link>, and where the columns of a list with the names of
          its people are known.
        </p>
      ) : (
        <Judged j={o.judged} />
      )}
      {o.version > 0 && (
        <>
          <Factors of={o.factors} />
          <Domains of={o.domains} />
        </>
      )}
      <Sharing shares={o.shares} />
      {o.history.length > 0 && <History of={o.history} />}
    </>
  );
}

function Judged({ j }: { j: Schema<"JudgedOdds"> }) {
  return (
    <section>
      <h2>Odds against outcomes</h2>
      <p>
        {j.says}
        {j.byTable && " No message was sent yet with odds that were learnt: these are the odds of the shipped table."}
      </p>
      <div className="halves even">
        <Reliability tenths={j.tenths} says={j.says} />
        <div>
          <Tenths tenths={j.tenths} />
          <Scores j={j} />
        </div>
      </div>
    </section>
  );
}

/** Scores holds the odds against the table, and against one figure for all. */
function Scores({ j }: { j: Schema<"JudgedOdds"> }) {
  const rows: [string, Schema<"Score">][] = [
    ["Odds that were stated", j.stated],
    ["Odds of the shipped table", j.table],
    ["One figure for all, known afterwards", j.baseRate],
  ];
  return (
    <table className="rows scores">
      <thead>
        <tr>
          <th>How good: less is better</th>
          <th className="number">Brier score</th>
          <th className="number">Log loss</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([name, score]) => (
          <tr key={name}>
            <td>{name}</td>
            <td className="number">{score.brier.toFixed(3)}</td>
            <td className="number">{score.logLoss.toFixed(3)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Arrived is how many of how many messages arrived. */
const Arrived = ({ arrived, of }: { arrived: number; of: number }) => (
  <td className="number">
    {number(arrived)} of {number(of)}
  </td>
);

function Factors({ of }: { of: Schema<"OddsFactor">[] }) {
  return (
    <section>
      <h2>What counts beside domain and operator</h2>
      <Scroll label="What counts">
        <table className="rows">
          <thead>
            <tr>
              <th>An address</th>
              <th>Counts</th>
              <th className="number">Arrived</th>
            </tr>
          </thead>
          <tbody>
            {of.map((f) => (
              <tr key={f.code}>
                <td>{f.says}</td>
                <td>{speaks(f.weight)}</td>
                <Arrived arrived={f.arrived} of={f.of} />
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}

/** speaks says how strongly something speaks for or against a mailbox. */
function speaks(weight: number): string {
  const side = weight > 0 ? "for the mailbox" : "against it";
  const strength = Math.abs(weight);
  if (strength < 0.1) return "hardly at all";
  if (strength < 0.5) return `a little ${side}`;
  return strength < 1 ? side : `strongly ${side}`;
}

const in100 = (odds: number | undefined) => odds && `${Math.round(100 * odds)} in 100`;

function Domains({ of }: { of: Schema<"OddsDomain">[] }) {
  return (
    <section>
      <h2>Domains with most messages</h2>
      <Scroll label="Domains">
        <table className="rows">
          <thead>
            <tr>
              <th>Domain</th>
              <th>Operator</th>
              <th>Naming habit</th>
              <th className="number">Arrived</th>
              <th className="number">Odds if it fits</th>
              <th className="number">Odds if not</th>
            </tr>
          </thead>
          <tbody>
            {of.map((d) => (
              <tr key={d.domain}>
                <td>
                  <bdi>{d.domain}</bdi>
                </td>
                <td>
                  <bdi>{d.operator}</bdi>
                </td>
                <td>{d.habit}</td>
                <Arrived arrived={d.arrived} of={d.of} />
                <td className="number">{in100(d.fits)}</td>
                <td className="number">{in100(d.otherwise)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}

function Sharing({ shares }: { shares: boolean }) {
  const client = useQueryClient();
  const share = useMutation({
    mutationFn: async (on: boolean) => told(await api.PUT("/odds/sharing", { body: { shares: on } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["odds"] }),
  });
  return (
    <section>
      <h2>Sharing with other workspaces</h2>
      {shares ? (
        <p>
          Outcomes are shared with the other workspaces here as counts of domains: of a domain with at least 20
          addresses of 3 workspaces it is told, in steps of five, how many messages arrived. No address is shown to
          anybody, and no finding changes by it.
        </p>
      ) : (
        <p>Outcomes of this workspace count for nobody else, and those of others do not count here.</p>
      )}
      <For scope="manage">
        <label className="switch">
          <Switch checked={shares} loading={share.isPending} onChange={(on) => share.mutate(on)} /> Share outcomes as
          counts of domains
        </label>
      </For>
      {share.error && <Trouble error={share.error} />}
    </section>
  );
}

function History({ of }: { of: Schema<"OddsVersion">[] }) {
  return (
    <section>
      <h2>What changed</h2>
      <ol className="timeline" reversed>
        {of.map((v) => (
          <li key={v.version}>
            <h3>
              Learnt <When at={v.madeAt} />
            </h3>
            {v.changes.map((c) => (
              <p key={c}>{c}</p>
            ))}
          </li>
        ))}
      </ol>
    </section>
  );
}
