// Asks Varnet about the address in a form while somebody types it. docs/forms.md tells how to use it.
(() => {
  const script = document.currentScript;
  const base = new URL(script.src).origin;
  const { key, pause = "700" } = script.dataset;
  const texts = {
    typing: "Did you mean {address}?",
    use: "Use it",
    unusable: "Mail to this address does not seem to arrive. Please check it.",
    ...script.dataset,
  };

  function watch(input) {
    // What is said is read out by screen readers; it never keeps the form from being sent.
    const says = document.createElement("span");
    says.id = `varnet-${Math.random().toString(36).slice(2)}`;
    says.className = "varnet-says";
    says.setAttribute("role", "status");
    input.after(says);
    input.setAttribute("aria-describedby", `${input.getAttribute("aria-describedby") ?? ""} ${says.id}`.trim());
    let asked = "";
    let waits;
    let going;

    function say(text, address) {
      says.replaceChildren();
      input.toggleAttribute("data-varnet-doubt", text !== "");
      if (text === "") return;
      says.append(text.replace("{address}", address ?? ""));
      if (!address) return;
      const use = document.createElement("button");
      use.type = "button";
      use.textContent = texts.use;
      use.addEventListener("click", () => {
        input.value = address;
        input.dispatchEvent(new Event("input", { bubbles: true }));
        input.focus();
        ask();
      });
      says.append(" ", use);
    }

    async function ask() {
      clearTimeout(waits);
      const address = input.value.trim();
      if (address === asked || !/^\S+@\S+\.\S\S/.test(address)) return;
      asked = address;
      going?.abort();
      going = new AbortController();
      const over = setTimeout(() => going.abort(), 10000);
      try {
        const answer = await fetch(`${base}/api/v1/forms/check`, {
          method: "POST",
          headers: { authorization: `Bearer ${key}`, "content-type": "application/json" },
          body: JSON.stringify({ address }),
          signal: going.signal,
          credentials: "omit",
          referrerPolicy: "origin",
        });
        if (!answer.ok || input.value.trim() !== address) return;
        const told = await answer.json();
        if (told.answer === "typing-error") say(texts.typing, told.suggestion);
        else say(told.answer === "not-usable" ? texts.unusable : "");
      } catch {
        if (asked === address) asked = ""; // the service is away or the line is slow: the form goes on without it
      } finally {
        clearTimeout(over);
      }
    }

    input.addEventListener("input", () => {
      if (input.value.trim() !== asked) say("");
      clearTimeout(waits);
      waits = setTimeout(ask, Number(pause));
    });
    input.addEventListener("change", ask);
  }

  const start = () => document.querySelectorAll("input[data-varnet]").forEach(watch);
  if (document.readyState === "loading") addEventListener("DOMContentLoaded", start);
  else start();
})();
