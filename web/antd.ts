// antd makes its styles in the browser, anew on each page that is opened: a fifth of what a page's script does. They are
// made here instead, while the console is built: the styles of a part come with its code, in the cascade layer antd, and
// the code that would make them is left out.
import { createCache, extractStyle, StyleProvider } from "@ant-design/cssinjs";
import * as antd from "antd";
import { createElement, type ElementType } from "react";
import { renderToString } from "react-dom/server";
import type { Plugin } from "vite";
import { themeFor } from "./src/theme.ts";

/** used are the parts of antd that the console is made of: what is missing here has no styles, so the build refuses it. */
const used: Record<string, ElementType> = {
  Alert: antd.Alert,
  Button: antd.Button,
  Checkbox: antd.Checkbox,
  "Checkbox.Group": antd.Checkbox.Group,
  ConfigProvider: antd.ConfigProvider,
  Drawer: antd.Drawer,
  Input: antd.Input,
  "Input.Password": antd.Input.Password,
  "Input.TextArea": antd.Input.TextArea,
  InputNumber: antd.InputNumber,
  Modal: antd.Modal,
  Popconfirm: antd.Popconfirm,
  Popover: antd.Popover,
  Segmented: antd.Segmented,
  Select: antd.Select,
  Switch: antd.Switch,
};

/** stylesOf are the styles of all parts used, by antd's names of them. Colours and sizes are variables, which the browser sets. */
function stylesOf(dark: boolean): Map<string, string> {
  const cache = createCache();
  const parts = Object.entries(used).map(([key, part]) =>
    createElement(part, { key, title: key, options: [] }, key.startsWith("Pop") ? createElement("b") : undefined),
  );
  const theme = { ...themeFor(dark, false), zeroRuntime: false };
  renderToString(createElement(StyleProvider, { cache }, createElement(antd.ConfigProvider, { theme }, parts)));
  const styles = [...cache.cache].filter(([key]) => key.startsWith("style%"));
  return new Map(
    styles.map(([key, made]) => {
      const one = createCache();
      one.cache.set(key, made);
      return [key.split("%")[2], extractStyle(one, { plain: true, types: "style" })];
    }),
  );
}

/** A call of one of antd's functions that are told the name of a part and how its styles are made. */
type Maker = {
  callee: { name: string };
  arguments: { value?: string; elements?: { value: string }[]; start: number; end: number }[];
};

/** makersIn are the calls of such functions anywhere under a node. */
function makersIn(node: unknown): Maker[] {
  if (typeof node !== "object" || node === null) return [];
  const call = node as Partial<Maker>;
  const is = /^gen(StyleHooks|SubStyleComponent|ComponentStyleHook)$/.test(call.callee?.name ?? "");
  return [...(is ? [call as Maker] : []), ...Object.values(node).flatMap(makersIn)];
}

/** unknown are the parts of antd that a file of ours names and that are not among those used. */
function unknown(code: string): string[] {
  const named = [...code.matchAll(/import \{([^}]*)\} from "antd"/g)].flatMap((m) => m[1].split(","));
  const parts = named.map((n) => n.trim()).filter((n) => n !== "" && !n.startsWith("type "));
  const inner = [...code.matchAll(/<(\w+)\.\w+/g)].filter((m) => parts.includes(m[1])).map((m) => m[0].slice(1));
  return [...parts, ...inner].filter((n) => !(n in used));
}

/** sheets is how the modules are named that hold the styles of a part. */
const sheets = "virtual:antd/";

/** antdAtBuild has antd's styles made while the console is built. What it says of links everywhere is left out: app.css does. */
export function antdAtBuild(): Plugin {
  const styles = stylesOf(false);
  return {
    name: "antd-at-build",
    buildStart() {
      const dark = stylesOf(true);
      const differing = [...styles.keys()].filter((name) => styles.get(name) !== dark.get(name));
      if (differing.length > 0)
        this.error(
          `web/antd.ts: the styles of ${differing.join(", ")} differ between light and dark; one sheet is not enough`,
        );
    },
    resolveId: (id) => (id.startsWith(sheets) ? `\0${id}` : undefined),
    load(id) {
      if (!id.startsWith(`\0${sheets}`)) return;
      const name = id.slice(sheets.length + 1, -".css".length);
      // Whichever sheet comes first sets the order of the layers.
      return `@layer base, antd; @layer antd {${styles.get(name)}}`;
    },
    transform(code, id) {
      if (/\/web\/src\/.*\.tsx$/.test(id) && unknown(code).length > 0)
        this.error(
          `web/antd.ts: ${unknown(code).join(", ")} is not among the parts used, so it would have no styles; add it there`,
        );
      if (!/\/antd\/es\/.*\/style(\/\w+)?\.js$/.test(id)) return;
      const makers = makersIn(this.parse(code));
      const names = makers.map(
        ({ arguments: [part] }) => part.elements?.map((e) => e.value).join("-") ?? `${part.value}-${part.value}`,
      );
      const imports = names.filter((name) => styles.has(name)).map((name) => `import "${sheets}${name}.css";\n`);
      const without = makers.reduceRight(
        (left, { arguments: [, made] }) => `${left.slice(0, made.start)}() => []${left.slice(made.end)}`,
        code,
      );
      return imports.join("") + without;
    },
  };
}
