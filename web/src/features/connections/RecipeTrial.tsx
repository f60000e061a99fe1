import { useMutation } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Trouble } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { acts } from "./queries";

/** RecipeTrial holds a recipe against its form and a real answer of the platform, before it is saved. */
export function RecipeTrial({ recipe }: { recipe: string }) {
  const [answer, setAnswer] = useState("");
  const trial = useMutation({
    mutationFn: async () => told(await api.POST("/recipes/test", { body: { recipe, answer } })),
  });
  return (
    <section aria-live="polite">
      <h2>Try the recipe</h2>
      <p>
        Paste an answer of the platform that holds contacts, as it came. Nobody is asked; you see what the recipe reads
        in it, or where it is wrong.
      </p>
      <Input.TextArea
        className="code"
        aria-label="An answer of the platform"
        spellCheck={false}
        autoSize={{ minRows: 6, maxRows: 14 }}
        value={answer}
        placeholder={'{"contacts": [{"id": "c-1", "email": "ada.moss@fernhollow.example"}]}'}
        onChange={(e) => setAnswer(e.target.value)}
      />
      <div className="acts">
        <Button disabled={!recipe.trim()} loading={trial.isPending} onClick={() => trial.mutate()}>
          Try it
        </Button>
      </div>
      {trial.error && <Trouble error={trial.error} />}
      {trial.data && <Read of={trial.data} />}
    </section>
  );
}

function Read({ of: r }: { of: Schema<"RecipeRead"> }) {
  return (
    <>
      <p className="sentence">
        <bdi>{r.says}</bdi>
      </p>
      {r.takes.length > 0 && <p>It can write back: {r.takes.map((t) => acts[t as keyof typeof acts]).join("; ")}.</p>}
      {r.contacts.length > 0 && (
        <Scroll label="Contacts that the recipe reads">
          <table className="rows">
            <thead>
              <tr>
                <th>Key</th>
                <th>Addresses</th>
                {r.contacts[0]?.fields.map((f) => (
                  <th key={f.name}>
                    <bdi>{f.name}</bdi>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {r.contacts.map((c) => (
                <tr key={c.key}>
                  <td>{c.key}</td>
                  <td>
                    <bdi>{c.addresses.join(", ")}</bdi>
                  </td>
                  {c.fields.map((f) => (
                    <td key={f.name}>
                      <bdi>{f.value}</bdi>
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </>
  );
}
