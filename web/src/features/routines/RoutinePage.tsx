import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Sure } from "../../parts/Sure";
import { moment } from "../../words";
import { routineKeys, useRoutine, useTimes } from "./queries";
import { RoutineForm } from "./RoutineForm";
import { stateWords } from "./Routines";
import { Times } from "./Times";
import { TimesChart } from "./TimesChart";

/** NewRoutine makes a routine. */
export function NewRoutine() {
  return (
    <>
      <p className="path">
        <Link to="/routines">Routines</Link> →
      </p>
      <h1>Make a routine</h1>
      <RoutineForm />
    </>
  );
}

/** EditRoutine has a routine do something else. */
export function EditRoutine() {
  const id = Number(useParams().id);
  const routine = useRoutine(id);
  if (routine.error) return <Trouble error={routine.error} />;
  if (!routine.data) return <Wait for="the routine" />;
  return (
    <>
      <p className="path">
        <Link to="/routines">Routines</Link> → <Link to={`/routines/${id}`}>{routine.data.name}</Link> →
      </p>
      <h1>Change the routine</h1>
      <RoutineForm of={routine.data} />
    </>
  );
}

/** RoutinePage shows a routine: what it does, where it stands, and what its times came to. */
export function RoutinePage() {
  const id = Number(useParams().id);
  const routine = useRoutine(id);
  const times = useTimes(id);
  const r = routine.data;
  if (routine.error) return <Trouble error={routine.error} again={() => void routine.refetch()} />;
  if (!r) return <Wait for="the routine" />;
  return (
    <>
      <p className="path">
        <Link to="/routines">Routines</Link> →
      </p>
      <h1>
        <bdi>{r.name}</bdi>
      </h1>
      <p className="sentence">
        {r.paused
          ? "It is paused."
          : r.nextAt
            ? `It is due next ${moment(r.nextAt)}.`
            : "It is due when its source has changed."}
        {r.last &&
          ` Its last time ${r.last.endedAt ? `was ${moment(r.last.dueAt)}: ` : ""}${stateWords[r.last.state]}.`}
      </p>
      {r.last?.state === "held" && <Held routine={id} time={r.last} />}
      <For scope="run">
        <Acts of={r} />
      </For>
      {r.says.map((s) => (
        <p key={s} className="says">
          <bdi>{s}</bdi>
        </p>
      ))}
      {times.data && <TimesChart of={times.data} />}
      <h2>Its times</h2>
      <Times routine={id} />
    </>
  );
}

/** Held asks the person to decide. */
function Held({ routine, time }: { routine: number; time: Schema<"RoutineTime"> }) {
  const client = useQueryClient();
  const decide = useMutation({
    mutationFn: async (goOn: boolean) =>
      told(
        await api.POST("/routines/{id}/times/{number}/decision", {
          params: { path: { id: routine, number: time.number } },
          body: { goOn },
        }),
      ),
    onSettled: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: routineKeys.one(routine) }),
        client.invalidateQueries({ queryKey: routineKeys.times(routine) }),
      ]),
  });
  return (
    <Alert
      type="warning"
      className="notice"
      title={time.says}
      action={
        <For scope="run">
          <span className="row-acts">
            <Button type="primary" loading={decide.isPending} onClick={() => decide.mutate(true)}>
              Go on
            </Button>
            <Button onClick={() => decide.mutate(false)}>Leave it</Button>
          </span>
        </For>
      }
      description={decide.error && <Trouble error={decide.error} />}
    />
  );
}

function Acts({ of: r }: { of: Schema<"Routine"> }) {
  const client = useQueryClient();
  const go = useNavigate();
  const path = { params: { path: { id: r.id } } };
  const again = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: routineKeys.one(r.id) }),
      client.invalidateQueries({ queryKey: routineKeys.times(r.id) }),
    ]);
  const run = useMutation({
    mutationFn: async (dry: boolean) => told(await api.POST("/routines/{id}/run", { ...path, body: { dry } })),
    onSuccess: again,
  });
  const pause = useMutation({
    mutationFn: async () => told(await api.PATCH("/routines/{id}", { ...path, body: { paused: !r.paused } })),
    onSuccess: again,
  });
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/routines/{id}", path)),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: routineKeys.all });
      void go("/routines");
    },
  });
  const busy = r.last !== undefined && !r.last.endedAt;
  const trouble = run.error ?? pause.error ?? remove.error;
  return (
    <>
      {trouble && <Trouble error={trouble} />}
      <div className="acts">
        <Button type="primary" disabled={busy} loading={run.isPending} onClick={() => run.mutate(false)}>
          Run it now
        </Button>
        <Button disabled={busy} onClick={() => run.mutate(true)}>
          Dry run
        </Button>
        <Link to={`/routines/${r.id}/edit`}>Change it</Link>
        <button type="button" className="plain" onClick={() => pause.mutate()}>
          {r.paused ? "Resume it" : "Pause it"}
        </button>
        <Sure
          ask="Delete this routine with the record of its times?"
          says="The lists that it made stay."
          yes="Delete it"
          onYes={() => remove.mutate()}
        >
          Delete it
        </Sure>
      </div>
    </>
  );
}
