// The calibration session's page: follows the timers of every cup; the page is read afresh when another probe wants a hand.
import { readAfresh } from "./afresh.js";

const root = document.querySelector("[data-session]");
const says = document.querySelector("[data-session-says]");
const started = new Map();

const clock = (seconds) => {
  const whole = Math.max(0, Math.floor(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
};

const show = (line) => {
  const row = root.querySelector(`[data-run="${line.run}"]`);
  if (!row) return false;
  if (String(line.done) !== row.dataset.done || String(line.rank) !== row.dataset.rank) return true;
  if (line.elapsed !== null) started.set(line.run, Date.now() - line.elapsed * 1000);
  const state = row.querySelector("[data-state]");
  if (state && line.state) state.textContent = line.state;
  row.querySelector("[data-speaks]").textContent = line.speaks;
  return false;
};

const look = async () => {
  try {
    const answer = await fetch(root.dataset.session, { headers: { Accept: "application/json" } });
    if (!answer.ok) throw new Error(String(answer.status));
    const found = await answer.json();
    const moved = found.lines.map(show).some(Boolean) || found.turn !== root.dataset.turn;
    says.textContent = "";
    if (moved) readAfresh();
  } catch {
    says.textContent = "No line to Brumel; the timers go on, nothing that was read is lost.";
  }
};

const tick = () => {
  for (const [run, since] of started) {
    const place = root.querySelector(`[data-run="${run}"] [data-clock]`);
    if (place) place.textContent = clock((Date.now() - since) / 1000);
  }
};

look();
setInterval(look, 2000);
setInterval(tick, 500);
