// The plan follows the clock: a step that falls due is said in the page, and as a notification where that was allowed.
const place = document.querySelector("[data-announce]");
const button = document.querySelector("[data-tell]");
const opened = Date.now();
const said = new Set();

const tell = (words) => {
  if (place) place.textContent = words;
  if (window.Notification?.permission === "granted") new Notification("Brumel", { body: words });
};

const look = () => {
  const now = Date.now();
  for (const row of document.querySelectorAll("[data-plan] [data-at]")) {
    const from = Date.parse(row.dataset.at);
    const until = Date.parse(row.dataset.until);
    row.classList.toggle("going", from <= now && now < until);
    const key = `${row.dataset.at} ${row.textContent}`;
    // What was due as the page opened is on the page; only what falls due afterwards is announced.
    if (from > opened && from <= now && !said.has(key)) {
      said.add(key);
      tell(`Now: ${row.querySelector("th").textContent.trim()}`);
    }
  }
};

if (button && window.Notification?.permission === "default") {
  button.hidden = false;
  button.addEventListener("click", async () => {
    await Notification.requestPermission();
    button.hidden = true;
  });
}
setInterval(look, 1000);
look();
