import { Input } from "antd";
import { useState } from "react";
import { useWords } from "../../api/hooks";
import { Trouble, Wait } from "../../parts/Notice";

/** Words shows the registry: every cause and trait, what it means and what to do. */
export function Glossary() {
  const words = useWords();
  const [text, setText] = useState("");
  if (words.error) return <Trouble error={words.error} again={() => void words.refetch()} />;
  if (!words.data) return <Wait for="the glossary" />;
  const fits = (...parts: (string | undefined)[]) =>
    parts.some((p) => p?.toLowerCase().includes(text.trim().toLowerCase()));
  const causes = words.data.causes.filter((c) => fits(c.code, c.title, c.meaning, c.advice));
  const traits = words.data.traits.filter((t) => fits(t.code, t.title, t.meaning));
  return (
    <>
      <h1>Glossary</h1>
      <p>Everything Varnet can say about an address: why it was found so, and what it is like.</p>
      <Input
        id="search"
        type="search"
        aria-label="Part of a word"
        placeholder="part of a word  ( / )"
        value={text}
        onChange={(e) => setText(e.target.value)}
        style={{ maxWidth: 480 }}
      />
      <h2>Causes{text && `: ${causes.length} of ${words.data.causes.length} match`}</h2>
      <dl className="glossary">
        {causes.map((c) => (
          <div key={c.code} id={c.code}>
            <dt>
              {c.title}
              <code>{c.code}</code>
            </dt>
            <dd>
              {c.meaning}{" "}
              <span className="quiet">
                {c.advice} It goes with: {c.findings.join(", ")}.
              </span>
            </dd>
          </div>
        ))}
      </dl>
      <h2>Traits{text && `: ${traits.length} of ${words.data.traits.length} match`}</h2>
      <dl className="glossary">
        {traits.map((t) => (
          <div key={t.code}>
            <dt>
              {t.title}
              <code>{t.code}</code>
            </dt>
            <dd>{t.meaning}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}
