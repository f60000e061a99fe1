import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Select } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { useSession } from "../../api/hooks";
import { Trouble, Wait } from "../../parts/Notice";
import { here, zones } from "../../words";
import { useKinds, useWishes } from "./queries";

type Wishes = Schema<"LetterWishes">;
type Choice = Wishes["choices"][number]["choice"];

const choices: { value: Choice; label: string }[] = [
  { value: "never", label: "never" },
  { value: "at once", label: "at once" },
  { value: "daily", label: "once a day" },
];

const hours = Array.from({ length: 24 }, (_, h) => ({ value: h, label: `${String(h).padStart(2, "0")}:00` }));
const allZones = zones();

/** LetterWishes has a person choose which letters they get. */
export function LetterWishes() {
  const wishes = useWishes();
  return (
    <>
      <h1>Letters about events</h1>
      <p>
        A letter says what the page says, with the flow of a run as a picture and one link. It holds no address of a
        list.
      </p>
      {wishes.error && <Trouble error={wishes.error} again={() => void wishes.refetch()} />}
      {!wishes.data && !wishes.error && <Wait for="your choices" />}
      {wishes.data && <Choosing of={wishes.data} />}
    </>
  );
}

function Choosing({ of: saved }: { of: Wishes }) {
  const client = useQueryClient();
  const session = useSession();
  const kinds = useKinds();
  const [wishes, setWishes] = useState(saved);
  const save = useMutation({
    mutationFn: async () => told(await api.PUT("/person/letters", { body: wishes })),
    onSuccess: (now) => client.setQueryData(["letter-wishes"], now),
  });
  const choose = (code: string, choice: Choice) =>
    setWishes({ ...wishes, choices: wishes.choices.map((c) => (c.code === code ? { ...c, choice } : c)) });
  const kind = (code: string) => kinds.data?.find((k) => k.code === code);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <table className="rows narrow wishes">
        <thead>
          <tr>
            <th>Event in “{session.data?.workspace}”</th>
            <th>Letter</th>
          </tr>
        </thead>
        <tbody>
          {wishes.choices.map((c) => (
            <tr key={c.code}>
              <td>
                {kind(c.code)?.title ?? c.code}
                <small className="quiet">{kind(c.code)?.meaning}</small>
              </td>
              <td>
                <Select
                  aria-label={`A letter about: ${kind(c.code)?.title ?? c.code}`}
                  value={c.choice}
                  onChange={(choice) => choose(c.code, choice)}
                  options={choices}
                  popupMatchSelectWidth={false}
                  style={{ minWidth: 120 }}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <h2>For all your workspaces</h2>
      <div className="add">
        <label>
          The daily letter goes at{" "}
          <Select
            aria-label="Hour of the daily letter"
            value={wishes.dailyHour}
            onChange={(dailyHour) => setWishes({ ...wishes, dailyHour })}
            options={hours}
          />
        </label>
        <label>
          in{" "}
          <Select
            aria-label="Time zone"
            showSearch
            value={wishes.zone}
            onChange={(zone) => setWishes({ ...wishes, zone })}
            options={allZones}
            popupMatchSelectWidth={false}
            style={{ minWidth: 200 }}
          />
        </label>
        {wishes.zone !== here && (
          <button type="button" className="plain" onClick={() => setWishes({ ...wishes, zone: here })}>
            Use {here}
          </button>
        )}
      </div>
      <p>
        <Checkbox checked={wishes.withReport} onChange={(e) => setWishes({ ...wishes, withReport: e.target.checked })}>
          Attach the report to letters about finished runs
        </Checkbox>
      </p>
      {save.error && <Trouble error={save.error} />}
      <div className="acts">
        <Button type="primary" htmlType="submit" loading={save.isPending} disabled={wishes === saved}>
          Save
        </Button>
        {save.isSuccess && <span role="status">Saved.</span>}
      </div>
    </form>
  );
}
