import { Input, Modal } from "antd";
import { type KeyboardEvent, useState } from "react";
import { useNavigate } from "react-router";
import { useLists } from "../api/hooks";

const pages = [
  ["Lists", "/lists"],
  ["Import a list", "/import"],
  ["Workshop: lists from lists", "/workshop"],
  ["Odds of catch-all addresses", "/odds"],
  ["Usage", "/usage"],
  ["Plans and purchases", "/purchases"],
  ["Check an address", "/check"],
  ["Routines", "/routines"],
  ["Make a routine", "/routines/new"],
  ["Connections", "/connections"],
  ["New connection", "/connections/new"],
  ["Bounces", "/bounces"],
  ["Import what a sending tool says", "/bounces/table"],
  ["Where bounces come from", "/bounces/sources"],
  ["Trial letters", "/trial-letters"],
  ["Setup", "/setup"],
  ["Policies", "/policies"],
  ["Catalogues", "/catalogues"],
  ["Rules of the workspace", "/rules"],
  ["Glossary", "/glossary"],
  ["Team", "/team"],
  ["Keys", "/keys"],
  ["Webhooks", "/webhooks"],
  ["Notices", "/notices"],
  ["Letters about events", "/notices/letters"],
  ["Requests", "/requests"],
  ["Audit trail", "/audit"],
  ["Your account", "/person"],
  ["Outbound", "/outbound"],
  ["Letters", "/letters"],
  ["Workers and health", "/health"],
  ["Installation", "/installation"],
] as const;
const help: [string, string][] = [
  ["Ctrl K", "go anywhere"],
  ["/", "to the search of the page"],
  ["↑ ↓", "walk the rows"],
  ["Enter", "open the evidence"],
  ["Space", "choose a row"],
  ["Esc", "close"],
  ["?", "this help"],
];

/** Palette goes anywhere by a few letters, and tells what the keyboard can do. */
export function Palette({ open, onClose }: { open: "go" | "help" | undefined; onClose: () => void }) {
  return (
    <>
      <Modal open={open === "go"} onCancel={onClose} footer={null} title="Go to" destroyOnHidden>
        <Go done={onClose} />
      </Modal>
      <Modal open={open === "help"} onCancel={onClose} footer={null} title="By keyboard">
        <dl className="keys">
          {help.map(([k, what]) => (
            <div key={k}>
              <dt>
                <kbd>{k}</kbd>
              </dt>
              <dd>{what}</dd>
            </div>
          ))}
        </dl>
      </Modal>
    </>
  );
}

function Go({ done }: { done: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const lists = useLists();
  const go = useNavigate();
  const all: [string, string][] = [
    ...pages.map(([n, to]) => [n, to] as [string, string]),
    ...(lists.data ?? []).map((l) => [l.name, `/lists/${l.id}`] as [string, string]),
  ];
  const fits = all.filter(([name]) => name.toLowerCase().includes(text.trim().toLowerCase())).slice(0, 9);
  const take = (to: string) => {
    done();
    void go(to);
  };
  const walk = (e: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (by) {
      e.preventDefault();
      setAt((n) => Math.min(fits.length - 1, Math.max(0, n + by)));
    }
    if (e.key === "Enter" && fits[at]) take(fits[at][1]);
  };
  return (
    <>
      <Input
        autoFocus
        onKeyDown={walk}
        role="combobox"
        aria-expanded
        aria-controls="places"
        aria-activedescendant={fits[at] && `place-${at}`}
        aria-label="Where to"
        placeholder="a page or a list"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
      />
      <div className="go" role="listbox" id="places" aria-label="Places" tabIndex={-1}>
        {fits.map(([name, to], i) => (
          <button
            type="button"
            key={to}
            id={`place-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === at}
            className={i === at ? "plain at" : "plain"}
            onClick={() => take(to)}
          >
            <bdi>{name}</bdi>
          </button>
        ))}
      </div>
    </>
  );
}
