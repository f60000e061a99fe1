import { Button, Input } from "antd";
import { useState } from "react";
import { Faults, Merits, marks, tones } from "../../parts/Checks";
import { Trouble } from "../../parts/Notice";
import { number, plural } from "../../words";
import { type Part, type SendingSide, useOutboundChange } from "./queries";

/** Parts shows the parts of one kind with what their tests found, and takes more in. */
export function Parts({
  kind,
  title,
  hint,
  does,
  side,
}: {
  kind: Part["kind"];
  title: string;
  hint: string;
  does: string;
  side: SendingSide;
}) {
  const parts = side.parts.filter((p) => p.kind === kind);
  const failed = parts.filter((p) => p.grade === "bad" && p.id > 0).length;
  const removeFailed = useOutboundChange("removeFailed");
  return (
    <section aria-label={title}>
      <div className="title">
        <h2>{title}</h2>
        {failed > 0 && (
          <Button size="small" loading={removeFailed.isPending} onClick={() => removeFailed.mutate(kind)}>
            Remove {failed === 1 ? "the one" : `the ${failed}`} that failed
          </Button>
        )}
      </div>
      <p className="quiet">{does}</p>
      {removeFailed.error && <Trouble error={removeFailed.error} />}
      {parts.length === 0 && <p>There is none yet.</p>}
      <ul className="parts">
        {parts.map((p) => (
          <PartShown
            key={p.id + p.name}
            part={p}
            health={side.health.find((h) => kind === "resolver" && h.server === p.name)}
          />
        ))}
      </ul>
      <Add kind={kind} title={title} hint={hint} />
    </section>
  );
}

function PartShown({ part: p, health }: { part: Part; health: SendingSide["health"][number] | undefined }) {
  const remove = useOutboundChange("remove");
  const grade = p.grade === "" ? "not tested" : p.grade;
  return (
    <li>
      <div className="title">
        <h3>
          <span className={tones[p.grade]}>
            <span aria-hidden="true">{marks[p.grade]}</span> {grade}
          </span>{" "}
          <bdi className="part-name">{p.name}</bdi>
          {p.public && <span className="quiet">, seen as {p.public}</span>}
          {p.tookMs !== undefined && p.tookMs > 0 && <span className="quiet">, {p.tookMs.toFixed(1)} ms</span>}
          {p.secret && <span className="quiet">, with sign-in</span>}
        </h3>
        {p.id > 0 ? (
          <Button size="small" loading={remove.isPending} onClick={() => remove.mutate(p.id)}>
            Remove<span className="unseen"> {p.name}</span>
          </Button>
        ) : (
          <span className="quiet">from the settings; used until one is added</span>
        )}
      </div>
      {remove.error && <Trouble error={remove.error} />}
      {p.rests && <p className="hold">{p.rests}</p>}
      <Faults of={p.checks} />
      {health?.says && <p className="hold">{health.says}</p>}
      {health && health.asked > 0 && (
        <p className="quiet">
          Since the service started: {plural(health.asked, "query", "queries")},{" "}
          {health.failed === 0 ? "all answered" : `${number(health.failed)} without an answer`},{" "}
          {health.meanMs.toFixed(1)} ms on average.
        </p>
      )}
      <Merits of={p.checks} />
    </li>
  );
}

function Add({ kind, title, hint }: { kind: Part["kind"]; title: string; hint: string }) {
  const [lines, setLines] = useState("");
  const add = useOutboundChange("add");
  const submit = () => add.mutate({ kind, lines }, { onSuccess: () => setLines("") });
  return (
    <form
      className="add"
      onSubmit={(e) => {
        e.preventDefault();
        submit();
      }}
    >
      <Input.TextArea
        aria-label={`More ${title.toLowerCase()}, one per line`}
        placeholder={`${hint} (one per line)`}
        autoSize={{ minRows: 1, maxRows: 12 }}
        value={lines}
        onChange={(e) => setLines(e.target.value)}
      />
      <Button htmlType="submit" loading={add.isPending} disabled={lines.trim() === ""}>
        Add and test
      </Button>
      {add.error && <Trouble error={add.error} />}
    </form>
  );
}
