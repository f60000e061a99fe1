/** Text of a list or a host. Its direction stays its own, and what cannot be seen is shown by its code. */
export function AddressText({ text, long = 120 }: { text: string; long?: number }) {
  const cut = text.length > long ? `${text.slice(0, long)}…` : text;
  const shown = cut.replace(
    /[\p{Cc}\p{Cf}\p{Co}]/gu,
    (c) => `⟨U+${c.codePointAt(0)!.toString(16).toUpperCase().padStart(4, "0")}⟩`,
  );
  return (
    <bdi className="address" title={text.length > long ? text.slice(0, 2000) : undefined}>
      {shown}
    </bdi>
  );
}
