import { begin } from "./pages";

// The page where somebody begins, and what it shows, are fetched beside what all pages need. A script that does not come is
// asked for again by the page itself.
const first = begin().catch(() => undefined);
const main = import("./main");
void Promise.all([main, first]).then(([{ start }, page]) => start(page));
