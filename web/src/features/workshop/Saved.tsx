import { Button, Input, Popover } from "antd";
import { type FormEvent, useState } from "react";
import { api, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { Field } from "../../parts/Field";
import { For } from "../../parts/For";
import { Trouble } from "../../parts/Notice";
import { plural } from "../../words";
import { saveRecipe, saveTerms, useRecipes, useSaved, useTermLists } from "./queries";
import type { Made, Step } from "./steps";

/** SaveRecipe saves the steps under a name, for routines and for the next month. */
export function SaveRecipe({ steps }: { steps: Step[] }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const save = useSaved("step-recipes", saveRecipe);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate({ name, steps }, { onSuccess: () => setOpen(false) });
  };
  return (
    <Popover
      open={open}
      onOpenChange={setOpen}
      trigger="click"
      content={
        <form className="workshop-save" onSubmit={submit}>
          <Field label="Name of the recipe" help="One of the same name is replaced.">
            <Input value={name} maxLength={100} onChange={(e) => setName(e.target.value)} />
          </Field>
          <Button htmlType="submit" disabled={name.trim() === ""} loading={save.isPending}>
            Save
          </Button>
          {save.error && <Trouble error={save.error} />}
        </form>
      }
    >
      <button type="button" className="plain">
        {save.isSuccess ? "Saved as a recipe" : "Save the steps as a recipe"}
      </button>
    </Popover>
  );
}

/** Saved are recipes of steps and lists of terms. */
export function Saved({ made, onUse }: { made: Made; onUse: (steps: Step[]) => void }) {
  const recipes = useRecipes();
  const terms = useTermLists();
  const forget = useSaved("step-recipes", async (id: number) =>
    told(await api.DELETE("/step-recipes/{id}", { params: { path: { id } } })),
  );
  const forgetTerms = useSaved("term-lists", async (id: number) =>
    told(await api.DELETE("/term-lists/{id}", { params: { path: { id } } })),
  );
  return (
    <div className="halves">
      <section>
        <h2>Recipes of steps</h2>
        {recipes.data?.length === 0 && (
          <p className="quiet">None yet. Steps that are saved can be followed next month, and by routines.</p>
        )}
        <ul className="parts">
          {recipes.data?.map((r) => (
            <li key={r.id}>
              <p className="part-name">
                <bdi>{r.name}</bdi>
              </p>
              <p>{r.says.join("; then ")}</p>
              <p className="acts">
                {made.listId > 0 && (
                  <Act of={r.name} onClick={() => onUse(r.steps)}>
                    Follow
                  </Act>
                )}
                <For scope="import">
                  <Act of={r.name} onClick={() => forget.mutate(r.id)}>
                    Delete
                  </Act>
                </For>
              </p>
            </li>
          ))}
        </ul>
        {forget.error && <Trouble error={forget.error} />}
      </section>
      <section>
        <h2>Saved terms</h2>
        {terms.data?.length === 0 && (
          <p className="quiet">
            None yet. Domains, names or numbers that are saved can be struck again and again, and used in policies.
          </p>
        )}
        <ul className="parts">
          {terms.data?.map((t) => (
            <li key={t.id}>
              <p className="part-name">
                <bdi>{t.name}</bdi>
              </p>
              <p>
                {plural(t.terms, "term")}: <bdi>{t.first.join(", ")}</bdi>
                {t.terms > t.first.length && " …"}
              </p>
              <For scope="import">
                <Act of={t.name} onClick={() => forgetTerms.mutate(t.id)}>
                  Delete
                </Act>
              </For>
            </li>
          ))}
        </ul>
        <For scope="import">
          <NewTerms />
        </For>
        {forgetTerms.error && <Trouble error={forgetTerms.error} />}
      </section>
    </div>
  );
}

function NewTerms() {
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const save = useSaved("term-lists", saveTerms);
  const terms = text.split("\n").filter((t) => t.trim() !== "");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate(
      { name, terms },
      {
        onSuccess: () => {
          setName("");
          setText("");
        },
      },
    );
  };
  return (
    <details>
      <summary>Save terms</summary>
      <form onSubmit={submit}>
        <Field label="Name of the terms">
          <Input value={name} maxLength={100} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Field label="Terms, one a line" help="Domains, addresses, names or numbers. Paste them, or drop a text file.">
          <Input.TextArea
            rows={6}
            value={text}
            onChange={(e) => setText(e.target.value)}
            onDrop={(e) => {
              const file = e.dataTransfer.files[0];
              if (!file) return;
              e.preventDefault();
              void file.text().then(setText);
            }}
          />
        </Field>
        <Button htmlType="submit" disabled={name.trim() === "" || terms.length === 0} loading={save.isPending}>
          Save {plural(terms.length, "term")}
        </Button>
        {save.error && <Trouble error={save.error} />}
      </form>
    </details>
  );
}
