import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useState, type DragEvent } from "react";
import { useNavigate } from "react-router";
import { send, type List, type Preview } from "../api/client";
import { keys } from "../api/hooks";
import { AddressText } from "../parts/AddressText";
import { Sentence, Trouble, Wait } from "../parts/Notice";

/** The service looks at so much of a file for a preview. */
const sampleSize = 256 * 1024;

export function BringIn() {
  const [file, setFile] = useState<File>();
  const preview = useMutation({ mutationFn: (f: File) => send<Preview>("/previews", f.slice(0, sampleSize)) });
  const choose = (f: File | undefined) => {
    if (!f) return;
    setFile(f);
    preview.mutate(f);
  };
  return (
    <>
      <h1>Bring a list in</h1>
      <Drop onFile={choose} chosen={file} />
      {preview.isPending && <Wait for="the preview" />}
      {preview.error && <Trouble error={preview.error} />}
      {file && preview.data && <Settle key={file.name + file.lastModified} file={file} preview={preview.data} />}
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
    <label className={"drop-zone" + (over ? " over" : "")} onDragOver={(e) => { e.preventDefault(); setOver(true); }} onDragLeave={() => setOver(false)} onDrop={drop}>
      <input type="file" onChange={(e) => onFile(e.target.files?.[0])} />
      {chosen ? <><strong><bdi>{chosen.name}</bdi></strong> Choose another file, or drop it here.</> : <><strong>Drop a CSV file here, or choose one.</strong> All its columns are kept as they are.</>}
    </label>
  );
}

function Settle({ file, preview }: { file: File; preview: Preview }) {
  const [name, setName] = useState(file.name.replace(/\.[^.]+$/, ""));
  const [column, setColumn] = useState(preview.addressColumn);
  const go = useNavigate();
  const client = useQueryClient();
  const bringIn = useMutation({
    mutationFn: () => send<List>(`/lists?${new URLSearchParams({ name, fileName: file.name, addressColumn: String(column) })}`, file),
    onSuccess: (list) => {
      void client.invalidateQueries({ queryKey: keys.lists });
      void go(`/lists/${list.id}`);
    },
  });
  const columns = preview.columns.map((c, i) => ({ value: i, label: `${i + 1}: ${c}` }));
  return (
    <>
      <Sentence>{preview.sentence}</Sentence>
      <form className="settle" onSubmit={(e) => { e.preventDefault(); bringIn.mutate(); }}>
        <label>Name of the list<Input value={name} onChange={(e) => setName(e.target.value)} /></label>
        <label>Column with the addresses<Select aria-label="Column with the addresses" options={column < 0 ? [{ value: -1, label: "choose one" }, ...columns] : columns} value={column} onChange={setColumn} /></label>
        <Button type="primary" htmlType="submit" disabled={column < 0} loading={bringIn.isPending}>Bring it in</Button>
      </form>
      {bringIn.isPending && <Wait for="the whole file to be read" />}
      {bringIn.error && <Trouble error={bringIn.error} />}
      <PreviewTable preview={preview} column={column} />
    </>
  );
}

function PreviewTable({ preview, column }: { preview: Preview; column: number }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="The first rows">
      <table className="rows preview">
        <thead><tr>{preview.columns.map((c, i) => <th key={i} className={i === column ? "chosen" : ""}><AddressText text={c} long={40} />{i === column && <small>addresses</small>}</th>)}</tr></thead>
        <tbody>
          {preview.rows.map((cells, r) => (
            <tr key={r}>{preview.columns.map((_, i) => <td key={i} className={i === column ? "chosen" : ""}><AddressText text={cells[i] ?? ""} long={60} /></td>)}</tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
