import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useState } from "react";
import { api, told } from "../../api/client";
import { useSettled } from "../../api/hooks";
import { Act } from "../../parts/Act";
import { AddressText } from "../../parts/AddressText";
import { Trouble, Wait } from "../../parts/Notice";
import { plural } from "../../words";
import { KindChoice } from "./KindChoice";
import type { Kind } from "./kinds";
import { useShipped } from "./queries";

/** Shipped are the catalogues that ship with Varnet, to look through; an entry can be made not to count. */
export function Shipped() {
  const client = useQueryClient();
  const [kind, setKind] = useState<Kind>("role");
  const [text, setText] = useState("");
  const entries = useShipped(kind, useSettled(text.trim(), 200));
  const except = useMutation({
    mutationFn: async (name: string) =>
      told(await api.POST("/catalogue", { body: { entries: [{ kind, name, except: true }] } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["catalogue"] }),
  });
  const error = entries.error ?? except.error;
  return (
    <section>
      <h2>Shipped catalogues</h2>
      <div className="add">
        <Input
          aria-label="Search the shipped catalogue"
          value={text}
          onChange={(e) => setText(e.target.value)}
          placeholder="a text in the name"
        />
        <KindChoice name="Shipped catalogue" value={kind} onChange={setKind} />
      </div>
      {error && <Trouble error={error} />}
      {!entries.data ? (
        <Wait for="the catalogue" />
      ) : (
        <>
          <p className="quiet" role="status">
            {entries.hasNextPage ? "The first " : ""}
            {plural(entries.data.length, "entry", "entries")}.
          </p>
          <ul className="shipped">
            {entries.data.map((e) => (
              <li key={e.name} className={e.counts ? undefined : "quiet"}>
                <AddressText text={e.name} />{" "}
                {e.counts ? (
                  <Act of={e.name} onClick={() => except.mutate(e.name)}>
                    Except
                  </Act>
                ) : (
                  "does not count"
                )}
              </li>
            ))}
          </ul>
          {entries.hasNextPage && (
            <Button onClick={() => void entries.fetchNextPage()} loading={entries.isFetchingNextPage}>
              Show more
            </Button>
          )}
        </>
      )}
    </section>
  );
}
