import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { type DragEvent, useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { type List, type Preview, send } from "../../api/client";
import { keys, useList } from "../../api/hooks";
import { importFile as bring } from "../../api/upload";
import { AddressText } from "../../parts/AddressText";
import { Choice } from "../../parts/Choice";
import { takeOver } from "../../parts/handed";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { number } from "../../words";

/** Of delimited text so much is enough for a preview; other files are looked at whole. */
const sampleSize = 256 * 1024;
const small = 16 * 1024 * 1024;

/** Written overrules how the file is read; what is left out is guessed. */
type Written = Partial<Record<"sheet" | "delimiter" | "encoding" | "header", string>>;

async function part(file: File): Promise<Blob> {
  if (file.size <= small) return file;
  const head = await file.slice(0, 16).text();
  // biome-ignore lint/suspicious/noControlCharactersInRegex: gzip begins so
  return /^(PK|\x1f|\s*[[{]|begin:|dn:|version:)/i.test(head) ? file : file.slice(0, sampleSize);
}

export function Import() {
  const [file, setFile] = useState<File>();
  const [written, setWritten] = useState<Written>({});
  const preview = useMutation({
    mutationFn: async ({ file: f, written: w }: { file: File; written: Written }) =>
      send<Preview>(`/previews?${new URLSearchParams(w)}`, await part(f)),
  });
  const look = (f: File, w: Written) => {
    setFile(f);
    setWritten(w);
    preview.mutate({ file: f, written: w });
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: a file that was dropped on the page before is taken once
  useEffect(() => {
    const dropped = takeOver();
    if (dropped) look(dropped, {});
  }, []);
  const [search] = useSearchParams();
  const before = useList(Number(search.get("for") ?? 0));
  return (
    <>
      <h1>
        {before.data ? (
          <>
            Import a newer file of <bdi>{before.data.name}</bdi>
          </>
        ) : (
          "Import a list"
        )}
      </h1>
      <Drop onFile={(f) => f && look(f, {})} chosen={file} />
      <Paste onText={(text) => look(new File([text], "pasted.txt"), {})} />
      {preview.isPending && <Wait for="the preview" />}
      {preview.error && <Trouble error={preview.error} />}
      {file && preview.data && (
        <Settle
          before={before.data}
          key={file.name + file.lastModified + JSON.stringify(written) + preview.submittedAt}
          file={file}
          preview={preview.data}
          written={written}
          onWritten={(w) => look(file, w)}
        />
      )}
    </>
  );
}

function Drop({ onFile, chosen }: { onFile: (f: File | undefined) => void; chosen: File | undefined }) {
  const [over, setOver] = useState(false);
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    onFile(e.dataTransfer.files[0]);
  };
  return (
    <label
      className={`drop-zone${over ? " over" : ""}`}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <input type="file" onChange={(e) => onFile(e.target.files?.[0])} />
      {chosen ? (
        <>
          <strong>
            <bdi>{chosen.name}</bdi>
          </strong>{" "}
          Choose another file, or drop it here.
        </>
      ) : (
        <>
          <strong>Drop a file here, or choose one.</strong> CSV, XLSX, ODS, JSON, vCard, LDIF or text, also packed. All
          its columns are kept as they are.
        </>
      )}
    </label>
  );
}

/** Paste takes a list, or any text with addresses in it, from the clipboard. */
function Paste({ onText }: { onText: (text: string) => void }) {
  const [text, setText] = useState("");
  return (
    <details className="paste">
      <summary>Or paste text</summary>
      <form
        className="add"
        onSubmit={(e) => {
          e.preventDefault();
          onText(text);
        }}
      >
        <Input.TextArea
          aria-label="Text with addresses in it"
          autoSize={{ minRows: 3, maxRows: 12 }}
          value={text}
          onChange={(e) => setText(e.target.value)}
          placeholder="a list, or any text with addresses in it"
        />
        <Button htmlType="submit" disabled={text.trim() === ""}>
          Look at it
        </Button>
      </form>
    </details>
  );
}

const modes = [
  { value: "append", label: "after the rows of the list" },
  { value: "update", label: "in the place of rows with the same key, the others after them" },
  { value: "replace", label: "in the place of all rows of the list" },
];

interface SettleProps {
  before: List | undefined;
  file: File;
  preview: Preview;
  written: Written;
  onWritten: (w: Written) => void;
}

function Settle({ before, file, preview, written, onWritten }: SettleProps) {
  const [name, setName] = useState(file.name.replace(/\.[^.]+$/, ""));
  const [columns, setColumns] = useState(preview.addressColumn < 0 ? [] : [preview.addressColumn]);
  const [mode, setMode] = useState("append");
  const [rowKey, setRowKey] = useState("");
  const [sent, setSent] = useState(0);
  const go = useNavigate();
  const client = useQueryClient();
  const importFile = useMutation({
    mutationFn: () =>
      bring<List>(
        before ? `/lists/${before.id}/imports` : "/lists",
        new URLSearchParams({
          ...written,
          name,
          fileName: file.name,
          addressColumns: columns.join(","),
          ...(before && { mode }),
          ...(rowKey && mode === "update" && { rowKey }),
        }),
        file,
        setSent,
      ),
    onSuccess: (list) => {
      void client.invalidateQueries({ queryKey: keys.lists });
      void go(`/lists/${list.id}`);
    },
  });
  const choices = preview.columns.map((c, i) => ({ value: i, label: `${i + 1}: ${c}` }));
  return (
    <>
      <Sentence>{preview.sentence}</Sentence>
      <form
        className="settle"
        onSubmit={(e) => {
          e.preventDefault();
          importFile.mutate();
        }}
      >
        {!before && (
          <label>
            Name of the list
            <Input value={name} onChange={(e) => setName(e.target.value)} />
          </label>
        )}
        {before && (
          <Choice
            label="Where its rows go"
            value={mode}
            onChange={setMode}
            options={modes}
            popupMatchSelectWidth={false}
          />
        )}
        {before && mode === "update" && (
          <Choice
            label="The same key is"
            value={rowKey}
            onChange={setRowKey}
            options={[{ value: "", label: "the address" }, ...before.columns.map((c) => ({ value: c, label: c }))]}
          />
        )}
        <Choice
          label="Columns with the addresses, the first counts first"
          name="Columns with the addresses"
          mode="multiple"
          maxCount={8}
          options={choices}
          value={columns}
          onChange={setColumns}
          placeholder="choose one"
        />
        <Button type="primary" htmlType="submit" disabled={columns.length === 0} loading={importFile.isPending}>
          Import
        </Button>
      </form>
      <Dialect preview={preview} onChange={(w) => onWritten({ ...written, ...w })} />
      {importFile.isPending && (
        <Wait
          for={
            sent > 0
              ? `the file to be sent: ${number(Math.round(sent / 1048576))} of ${number(Math.round(file.size / 1048576))} MB are there`
              : "the whole file to be read"
          }
        />
      )}
      {importFile.error && <Trouble error={importFile.error} />}
      <PreviewTable preview={preview} columns={columns} />
    </>
  );
}

const delimiters = [
  { value: ",", label: "comma" },
  { value: ";", label: "semicolon" },
  { value: "tab", label: "tab" },
  { value: "|", label: "upright stroke" },
  { value: " ", label: "space" },
  { value: "none", label: "nothing: one cell a line" },
];

/** Dialect shows how the file was read; whatever is changed, the preview follows. */
function Dialect({ preview: p, onChange }: { preview: Preview; onChange: (w: Written) => void }) {
  const delimiter = p.dialect.delimiter === "\t" ? "tab" : p.dialect.delimiter || "none";
  const prose = p.format === "free text";
  const known = delimiters.some((d) => d.value === delimiter)
    ? delimiters
    : [...delimiters, { value: delimiter, label: delimiter }];
  return (
    <div className="dialect">
      {p.sheets.length > 1 && (
        <Choice
          label="Sheet"
          value={p.sheet ?? ""}
          onChange={(sheet) => onChange({ sheet })}
          options={p.sheets.map((s) => ({ value: s, label: s }))}
        />
      )}
      {(prose || p.format === "text") && (
        <Choice
          label="Between cells"
          value={prose ? "guess" : delimiter}
          onChange={(d) => onChange({ delimiter: d })}
          options={prose ? [{ value: "guess", label: "running text" }, ...known] : known}
        />
      )}
      {p.format === "text" && (
        <Choice
          label="Encoding"
          showSearch
          value={p.dialect.encoding}
          onChange={(encoding) => onChange({ encoding })}
          options={p.encodings.map((e) => ({ value: e, label: e }))}
        />
      )}
      <Choice
        label="First line"
        value={p.dialect.header ? "yes" : "no"}
        onChange={(header) => onChange({ header })}
        options={[
          { value: "yes", label: "names the columns" },
          { value: "no", label: "is a row like the others" },
        ]}
      />
    </div>
  );
}

function PreviewTable({ preview, columns }: { preview: Preview; columns: number[] }) {
  const mark = (column: number) => (columns.includes(column) ? "addresses" : "");
  return (
    <Scroll label="The first rows">
      <table className="rows preview">
        <thead>
          <tr>
            {preview.columns.map((c, i) => (
              <th key={i} className={mark(i)}>
                <AddressText text={c} long={40} />
                <small>{mark(i) || preview.types[i]}</small>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {preview.rows.map((cells, r) => (
            <tr key={r}>
              {preview.columns.map((_, i) => (
                <td key={i} className={mark(i)}>
                  <AddressText text={cells[i] ?? ""} long={60} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
