import { Button, Input, Select } from "antd";
import { useEffect, useRef, useState } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import type { List, Schema } from "../../api/client";
import { useList, useLists, useSettled } from "../../api/hooks";
import { Field } from "../../parts/Field";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { number, plural, share } from "../../words";
import { Outcome } from "./Outcome";
import { useFile, useLook, useMake } from "./queries";
import { Saved, SaveRecipe } from "./Saved";
import { StepLine } from "./StepLine";
import { facts, hashOf, type Made, read, type Split, type Step, usualStep, whole } from "./steps";

/** Workshop makes lists from lists: a sentence that is being built, and what it comes to. */
export function Workshop() {
  const [made, change] = useMade();
  const lists = useLists();
  const begins = useList(made.listId);
  const settled = useSettled(made, 400);
  const ready = settled.steps.every(whole) && splitSaid(settled.split);
  const look = useLook(settled, ready && settled.steps.length + (settled.split ? 1 : 0) > 0);
  if (lists.error) return <Trouble error={lists.error} again={() => void lists.refetch()} />;
  if (!lists.data) return <Wait for="your lists" />;
  const known = withFirst(lists.data, begins.data);
  const shown = look.data && ready ? look.data : undefined;
  const stale = look.isFetching || settled !== made;
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →
      </p>
      <h1>Workshop</h1>
      <p>Make a list from lists. The lists themselves stay as they are.</p>
      <Builder made={made} lists={known} columns={begins.data?.columns ?? []} onChange={change} />
      {look.error && ready && <Trouble error={look.error} />}
      {shown && <Sentence>{says(shown)}</Sentence>}
      {shown?.state === "done" && (
        <>
          <Make made={made} job={shown} stale={stale} />
          <Outcome job={shown} stale={stale} />
        </>
      )}
      {!shown && !look.isFetching && <Hint lists={known} made={made} />}
      <Saved made={made} onUse={(steps) => change({ ...made, steps })} />
    </>
  );
}

/** useMade is what is made, which stands in the page's address, so that a reload loses nothing. */
function useMade(): [Made, (next: Made) => void] {
  const here = useLocation();
  const go = useNavigate();
  const [made, setMade] = useState(() => read(here));
  const written = useRef(new Set<string>());
  useEffect(() => {
    const another = here.hash === "" || here.hash.startsWith("#make="); // and not a place on the page
    if (another && !written.current.has(here.hash)) setMade(read(here));
  }, [here]);
  return [
    made,
    (next) => {
      setMade(next); // at once: the address follows later, and the next key may come before
      written.current.add(hashOf(next));
      void go({ hash: hashOf(next) }, { replace: true });
    },
  ];
}

/** says is what came of it: of several steps, whose words stand below, the rows alone. */
function says(j: Schema<"WorkshopJob">): string {
  const first = j.steps[0];
  if (j.state !== "done" || j.steps.length < 2 || !first) return j.says;
  return `${plural(j.rows, "row is", "rows are")} left of ${number(first.before)}.`;
}

const splitSaid = (s: Split | undefined) => !s || Boolean(s.column || s.fact || s.each);

/** withFirst are the lists with the one that the page begins with, which may be further down. */
const withFirst = (lists: List[], first: List | undefined) =>
  first && !lists.some((l) => l.id === first.id) ? [first, ...lists] : lists;

function Hint({ lists, made }: { lists: List[]; made: Made }) {
  if (lists.length === 0)
    return (
      <p className="quiet">
        There is no list yet. <Link to="/import">Import one</Link> first, such as your members, and one of those who
        unsubscribed.
      </p>
    );
  return (
    <p className="quiet">
      {made.listId === 0
        ? "Choose the list to begin with. Members without Unsubscribed, for example, or Members merged with Guests."
        : made.steps.length === 0
          ? "Say what is done with it: compare it with another list, choose rows, or tidy its columns."
          : "Go on with the sentence; what it comes to shows here."}
    </p>
  );
}

interface BuilderProps {
  made: Made;
  lists: List[];
  columns: string[];
  onChange: (m: Made) => void;
}

/** Builder is the sentence: the list it begins with, and what is done step by step. */
function Builder({ made, lists, columns, onChange }: BuilderProps) {
  const all = [...new Set([...columns, ...otherColumns(made, lists), ...newColumns(made)])];
  const step = (i: number) => (
    <StepLine
      step={made.steps[i] as Step}
      first={i === 0}
      lists={lists.filter((l) => l.id !== made.listId)}
      columns={all}
      onChange={(n) => onChange({ ...made, steps: made.steps.with(i, n) })}
      onRemove={() => onChange({ ...made, steps: made.steps.filter((_, at) => at !== i) })}
    />
  );
  return (
    <form className="workshop" onSubmit={(e) => e.preventDefault()}>
      <div className="workshop-line">
        <Select
          aria-label="The list to begin with"
          className="workshop-first"
          value={made.listId || null}
          placeholder="a list"
          showSearch
          optionFilterProp="label"
          options={lists.map((l) => ({ value: l.id, label: l.name }))}
          onChange={(listId) => onChange({ ...made, listId: listId ?? 0 })}
        />
        {made.listId > 0 && <RowsOf list={lists.find((l) => l.id === made.listId)} />}
        {made.steps.length > 0 && step(0)}
      </div>
      <ol className="workshop-steps" start={2}>
        {made.steps.slice(1).map((s, i) => (
          <li key={`${i} ${s.do}`} className="workshop-step">
            {step(i + 1)}
          </li>
        ))}
      </ol>
      {made.split && <SplitLine split={made.split} columns={all} onChange={(split) => onChange({ ...made, split })} />}
      {made.listId > 0 && (
        <p className="acts">
          <Button onClick={() => onChange({ ...made, steps: [...made.steps, usualStep("without")] })}>
            {made.steps.length === 0 ? "Do something with it" : "Then"}
          </Button>
          {!made.split && (
            <button type="button" className="plain" onClick={() => onChange({ ...made, split: { column: "" } })}>
              Split what is left into several lists
            </button>
          )}
        </p>
      )}
    </form>
  );
}

const RowsOf = ({ list }: { list: List | undefined }) =>
  list ? <span className="quiet">{number(list.rows)} rows</span> : null;

const otherColumns = (made: Made, lists: List[]) =>
  made.steps.flatMap((s) => (s.with ?? []).flatMap((w) => lists.find((l) => String(l.id) === w)?.columns ?? []));

const newColumns = (made: Made) =>
  made.steps.flatMap((s) => (s.changes ?? []).flatMap((c) => [c.to, c.rest].filter((n): n is string => Boolean(n))));

function SplitLine({
  split: s,
  columns,
  onChange,
}: {
  split: Split;
  columns: string[];
  onChange: (s: Split | undefined) => void;
}) {
  const options = [
    { label: "Columns", options: columns.map((n) => ({ value: `c ${n}`, label: `for each ${n}` })) },
    {
      label: "The address",
      options: facts.map((f) => ({ value: `f ${f.value}`, label: `for each value of ${f.label}` })),
    },
    {
      label: "Rows",
      options: [100, 1000, 5000, 10_000, 50_000].map((n) => ({
        value: `r ${n}`,
        label: `for every ${number(n)} rows`,
      })),
    },
  ];
  const chosen = s.each ? `r ${s.each}` : s.fact ? `f ${s.fact}` : s.column ? `c ${s.column}` : null;
  return (
    <div className="workshop-line">
      <span>, one list</span>
      <Select
        aria-label="One list for each"
        className="workshop-first"
        value={chosen}
        placeholder="for each value of a column"
        showSearch
        optionFilterProp="label"
        options={options}
        onChange={(v) => {
          if (!v) return;
          const [kind, rest] = [v[0], v.slice(2)];
          onChange(
            kind === "c" ? { column: rest } : kind === "f" ? { fact: rest as Split["fact"] } : { each: Number(rest) },
          );
        }}
      />
      <button type="button" className="plain" onClick={() => onChange(undefined)}>
        Do not split
      </button>
    </div>
  );
}

/** Make makes the list, or a file, or saves the steps. */
function Make({ made, job, stale }: { made: Made; job: Schema<"WorkshopJob">; stale: boolean }) {
  const go = useNavigate();
  const [name, setName] = useState("");
  const [far, setFar] = useState<Schema<"WorkshopJob">>();
  const make = useMake(setFar);
  const file = useFile();
  const several = job.parts.length > 0;
  const done = make.data;
  return (
    <For scope="import">
      <div className="workshop-make">
        <Field label={several ? "What the names of the lists begin with" : "Name of the new list"}>
          <Input
            value={name}
            maxLength={200}
            placeholder="as the sentence says"
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Button
          type="primary"
          disabled={stale || job.rows === 0}
          loading={make.isPending}
          onClick={() =>
            make.mutate(
              { made, name },
              { onSuccess: (j) => j.state === "done" && j.listIds.length === 1 && void go(`/lists/${j.listIds[0]}`) },
            )
          }
        >
          {several ? `Make ${number(job.parts.length)} lists` : "Make the list"}
        </Button>
        {!several && (
          <For scope="export">
            <Button disabled={stale || job.rows === 0} loading={file.isPending} onClick={() => file.mutate(made)}>
              Write a file
            </Button>
          </For>
        )}
        {made.steps.length > 0 && <SaveRecipe steps={made.steps} />}
      </div>
      {make.isPending && far && far.of > 0 && <p role="status">{share(far.read, far.of, "rows read")}</p>}
      {make.error && <Trouble error={make.error} />}
      {file.error && <Trouble error={file.error} />}
      {done && (done.state === "failed" || done.listIds.length > 1) && (
        <p role="status" className={done.state === "failed" ? "drop" : undefined}>
          {done.says} {done.state === "done" && <Link to="/lists">Go to the lists</Link>}
        </p>
      )}
    </For>
  );
}
