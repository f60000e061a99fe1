import { Button, Checkbox, Input, Select } from "antd";
import { useState } from "react";
import { Trouble } from "../../parts/Notice";
import { plural } from "../../words";
import { Columns } from "./Columns";
import { saveTerms, useSaved, useTermLists } from "./queries";
import { hows, type StepPart } from "./steps";

/** pasted is how many terms stand in the page's address; more of them are saved under a name. */
const pasted = 200;

/** Terms are what rows are struck by. */
export function Terms({ step: s, columns, set }: StepPart) {
  const saved = useTermLists();
  const [many, setMany] = useState<string[]>([]);
  return (
    <>
      <Input.TextArea
        aria-label="Terms, one a line"
        className="workshop-terms"
        autoSize={{ minRows: 1, maxRows: 8 }}
        placeholder="terms, one a line"
        defaultValue={(s.terms ?? []).join("\n")}
        onChange={(e) => {
          const terms = e.target.value.split("\n").filter((t) => t.trim() !== "");
          const toSave = terms.length > pasted;
          setMany(toSave ? terms : []);
          set({ terms: toSave ? [] : terms });
        }}
      />
      {many.length > 0 && (
        <Many
          terms={many}
          onSaved={(name) => {
            setMany([]);
            set({ terms: [], termLists: [...(s.termLists ?? []), name] });
          }}
        />
      )}
      {(saved.data?.length ?? 0) > 0 && (
        <Select
          aria-label="Saved terms"
          mode="multiple"
          className="workshop-others"
          placeholder="saved terms"
          value={s.termLists ?? []}
          options={saved.data?.map((t) => ({ value: t.name, label: t.name })) ?? []}
          onChange={(termLists) => set({ termLists })}
        />
      )}
      <Select
        aria-label="How a term must stand"
        value={s.how ?? "cell"}
        options={hows}
        popupMatchSelectWidth={false}
        onChange={(how) => set({ how })}
      />
      <span>in</span>
      <Columns
        label="Columns that are looked at"
        value={s.columns}
        columns={columns}
        placeholder="any column"
        onChange={(c) => set({ columns: c })}
      />
      <Checkbox checked={s.found ?? false} onChange={(e) => set({ found: e.target.checked || undefined })}>
        keep these rows instead
      </Checkbox>
    </>
  );
}

/** Many saves terms that are too many to stand in a sentence. */
function Many({ terms, onSaved }: { terms: string[]; onSaved: (name: string) => void }) {
  const [name, setName] = useState("");
  const save = useSaved("term-lists", saveTerms);
  return (
    <>
      <span>{plural(terms.length, "term")} are saved under the name</span>
      <Input
        aria-label="Name of the terms"
        className="workshop-value"
        maxLength={100}
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <Button
        disabled={name.trim() === ""}
        loading={save.isPending}
        onClick={() => save.mutate({ name: name.trim(), terms }, { onSuccess: () => onSaved(name.trim()) })}
      >
        Save and use them
      </Button>
      {save.error && <Trouble error={save.error} />}
    </>
  );
}
