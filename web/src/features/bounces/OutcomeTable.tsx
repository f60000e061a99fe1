import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { type Preview, type Schema, send } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { Trouble } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { changedKeys } from "./queries";

const wanted = [
  ["address", "Addresses"],
  ["outcome", "What became of the letter"],
  ["reason", "Words of the host"],
  ["at", "Time"],
  ["messageId", "Message-ID"],
] as const;
type Column = (typeof wanted)[number][0];

const meanings = ["bounced", "passing", "delayed", "complained", "nothing"] as const;

/** previewBytes of a file are enough to see what its columns are. */
const previewBytes = 256 << 10;

/** OutcomeTable imports a table in which a sending tool says what became of letters; how it is read is kept. */
export function OutcomeTable() {
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const [file, setFile] = useState<File>();
  const [columns, setColumns] = useState<Partial<Record<Column, number>>>({});
  const [means, setMeans] = useState<Record<string, string>>({});
  const preview = useMutation({
    mutationFn: (f: File) => send<Preview>("/previews", f.slice(0, previewBytes)),
  });
  const load = useMutation({
    mutationFn: async () => {
      const query = new URLSearchParams();
      for (const [name] of wanted) if (columns[name]) query.set(name, String(columns[name]));
      for (const [word, meaning] of Object.entries(means)) query.append("means", `${word}=${meaning}`);
      return (await send<Schema<"ImportedBounces">>(`/bounces/table?${query}`, file as File)).says;
    },
    onSettled: () => {
      for (const key of changedKeys) void client.invalidateQueries({ queryKey: key });
    },
  });
  const choose = (f: File) => {
    setFile(f);
    setColumns({});
    setMeans({});
    load.reset();
    preview.mutate(f);
  };
  const p = preview.data;
  const outcome = columns.outcome;
  const words = outcome && p ? [...new Set(p.rows.map((r) => r[outcome - 1]?.trim().toLowerCase() ?? ""))] : [];
  return (
    <>
      <p className="path">
        <Link to="/bounces">Bounces</Link> →
      </p>
      <h1>Import what a sending tool says</h1>
      <p>
        A table of your sending tool: a row a letter, with the address and what became of it. Which columns they are in
        and what its words mean is kept for the next table with the same columns.
      </p>
      <input
        ref={input}
        type="file"
        hidden
        accept=".csv,.tsv,.txt,.xlsx,.ods,.json,.jsonl"
        aria-label="Table of a sending tool"
        onChange={(e) => {
          if (e.target.files?.[0]) choose(e.target.files[0]);
          e.target.value = "";
        }}
      />
      <Button loading={preview.isPending} onClick={() => input.current?.click()}>
        {file ? "Choose another table" : "Choose the table"}
      </Button>
      {preview.error && <Trouble error={preview.error} />}
      {p && (
        <>
          <h2>Columns</h2>
          <div className="settle">
            {wanted.map(([name, label]) => (
              <Choice<number>
                key={name}
                label={label}
                value={columns[name] ?? 0}
                onChange={(n) => setColumns({ ...columns, [name]: n })}
                options={[
                  { value: 0, label: "as saved, or detected" },
                  ...p.columns.map((c, i) => ({ value: i + 1, label: c || `column ${i + 1}` })),
                ]}
              />
            ))}
          </div>
          {words.length > 0 && (
            <>
              <h2>What its words mean</h2>
              <div className="settle">
                {words.slice(0, 20).map((w) => (
                  <Choice<string>
                    key={w}
                    label={w || "an empty cell"}
                    value={means[w] ?? ""}
                    onChange={(m) => {
                      const { [w]: _, ...others } = means;
                      setMeans(m ? { ...others, [w]: m } : others);
                    }}
                    options={[
                      { value: "", label: "as it is read" },
                      ...meanings.map((m) => ({ value: m as string, label: m })),
                    ]}
                  />
                ))}
              </div>
            </>
          )}
          <FirstRows preview={p} />
          {load.error && <Trouble error={load.error} />}
          {load.data && <Alert type="success" role="status" className="notice" title={load.data} />}
          <Button type="primary" loading={load.isPending} onClick={() => load.mutate()}>
            Import the table
          </Button>
        </>
      )}
    </>
  );
}

function FirstRows({ preview: p }: { preview: Preview }) {
  return (
    <Scroll label="First rows">
      <table className="rows">
        <thead>
          <tr>
            {p.columns.map((c, i) => (
              <th key={i}>{c}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {p.rows.slice(0, 5).map((r, n) => (
            <tr key={n}>
              {r.map((cell, i) => (
                <td key={i}>
                  <bdi>{cell}</bdi>
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
