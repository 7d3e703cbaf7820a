// The listening clock: what was played is told about once a minute; when a break is due it is said once.
import { notify, post } from "./api.js";
import { FOR_GOOD, bench, on } from "./bench.js";

const TELL_MS = 60000, LEAST_S = 5;

export function startClock() {
  let since = 0, heard = 0, isSaid = false, timer = 0;
  const now = () => performance.now();

  function count() {
    if (since) heard += now() - since;
    since = since ? now() : 0;
  }
  async function report(isLeaving = false) {
    count();
    const seconds = Math.min(120, Math.round(heard / 1000));
    if (seconds < LEAST_S) return;
    heard = 0;
    try {
      const clock = await post("/listened/", { seconds, song: bench.slug }, { keepalive: isLeaving });
      if (clock.is_break_due && !isSaid) notify(clock.words);
      isSaid = clock.is_break_due;
    } catch { /* the next report carries on */ }
  }
  on("playing", (is) => {
    clearInterval(timer);
    if (is) {
      since = now();
      timer = setInterval(() => report(), TELL_MS);
    } else {
      report();
      since = 0;
    }
  }, FOR_GOOD);
  addEventListener("pagehide", () => report(true));
}
