import type { Decision, Finding } from "./api/client";

/** Numbers and times in the person's own locale; hours from 0 to 23, as in the sentences beside them. */
export const number = (n: number) => n.toLocaleString();
export const plural = (n: number, one: string, many = `${one}s`) => `${number(n)} ${n === 1 ? one : many}`;
export const time = (iso: string) => new Date(iso).toLocaleTimeString(undefined, { hourCycle: "h23" });
export const day = (iso: string) => new Date(iso).toLocaleDateString(undefined, { dateStyle: "medium" });
export const moment = (iso: string) =>
  new Date(iso).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short", hourCycle: "h23" });

const units: [Intl.RelativeTimeFormatUnit, number][] = [
  ["year", 31_536_000],
  ["month", 2_592_000],
  ["day", 86_400],
  ["hour", 3600],
  ["minute", 60],
];

/** ago says how long ago, or in how long, something is: "3 days ago". */
export function ago(iso: string): string {
  const seconds = (new Date(iso).getTime() - Date.now()) / 1000;
  const [unit, length] = units.find(([, s]) => Math.abs(seconds) >= s) ?? ["minute", 60];
  if (Math.abs(seconds) < 60) return seconds < 0 ? "just now" : "in a moment";
  return new Intl.RelativeTimeFormat(undefined, { numeric: "auto" }).format(Math.trunc(seconds / length), unit);
}

/** size says bytes in megabytes. */
export const size = (bytes: number) => `${number(Math.round(bytes / 1e6))} MB`;

/** share names its whole, always: "81 % of 4,210 addresses". */
export function share(part: number, whole: number, of: string): string {
  if (whole === 0) return `none of 0 ${of}`;
  const percent = (100 * part) / whole;
  const shown =
    part > 0 && percent < 1 ? "under 1" : part < whole && percent > 99 ? "over 99" : String(Math.round(percent));
  return `${shown} % of ${number(whole)} ${of}`;
}

/** What stands for each decision, beside its word: never colour alone. */
export const glyphs: Record<Decision, string> = { keep: "●", hold: "◐", drop: "○" };

/** The tone a finding has under the default policy, for drawing. */
export const tones: Record<Finding, Decision> = {
  deliverable: "keep",
  "catch-all": "hold",
  undecided: "hold",
  undeliverable: "drop",
};

export const findings: Finding[] = ["deliverable", "catch-all", "undecided", "undeliverable"];

/** here is the person's time zone, and zones are all there are, theirs first, to choose from. */
export const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
export const zones = () =>
  [...new Set([here, "UTC", ...Intl.supportedValuesOf("timeZone")])].map((z) => ({ value: z, label: z }));

/** report is where the one-page report of a run is, its times in the person's zone. */
export const report = (run: number, format: "pdf" | "html") =>
  `/api/v1/runs/${run}/report?${new URLSearchParams({ format, zone: here })}`;
