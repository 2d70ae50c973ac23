// What the kept pages of an outing share: they keep themselves, say whether there is a signal, and mind the queue.
import { home } from "../root.js";
import { asFile, draw, fromFile, send } from "./queue.js";

const body = JSON.parse(document.querySelector("[data-field]").dataset.field);
const net = document.querySelector("[data-net]");
const fileWords = document.querySelector("[data-file-words]");

let isKept = false;
const sayNet = async () => {
  const line = navigator.onLine ? "There is a signal." : "No signal.";
  const lasts = (await navigator.storage?.persisted?.())
    ? ""
    : " The browser may clear it when the phone is full; save what waits as a file.";
  net.textContent = `${line} ${isKept ? `This page is kept: it opens without one.${lasts}` : "This page is not kept yet."}`;
};

const keep = async () => {
  if (!("serviceWorker" in navigator)) {
    net.textContent = "This browser cannot keep the page; write on paper where there is no signal.";
    return;
  }
  navigator.serviceWorker.addEventListener("message", (event) => {
    isKept = event.data.kept || isKept;
    sayNet();
  });
  await navigator.serviceWorker.register(`${home}rounds/sw.js`, { scope: `${home}rounds/` });
  const ready = await navigator.serviceWorker.ready;
  isKept = Boolean(await caches.match(body.page, { ignoreVary: true }));
  if (navigator.onLine) ready.active.postMessage({ keep: [body.page, ...body.keep] });
  sayNet();
};

const saveFile = async () => {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await asFile());
  link.download = `brumel-visits-${new Date().toISOString().slice(0, 10)}.json`;
  link.click();
  URL.revokeObjectURL(link.href);
};

const readFile = async (event) => {
  const [file] = event.target.files;
  if (!file) return;
  try {
    const count = await fromFile(await file.text());
    fileWords.textContent = count
      ? `${count} came back into the queue.`
      : "All of it is in the queue already.";
  } catch (error) {
    const why =
      error.message === "of another outing"
        ? "is of another outing; open that one"
        : "is no file of saved visits";
    fileWords.textContent = `${file.name} ${why}. Nothing was changed.`;
  }
  event.target.value = "";
};

// Begins to keep the page and to send; called once, when the page is drawn.
export const mind = () => {
  document.querySelector("[data-send]").addEventListener("click", send);
  document.querySelector("[data-save-file]").addEventListener("click", saveFile);
  document.querySelector("[data-read-file]").addEventListener("change", readFile);
  window.addEventListener("online", () => {
    sayNet();
    send();
  });
  window.addEventListener("offline", sayNet);
  setInterval(() => navigator.onLine && send(), 20_000);
  navigator.storage?.persist?.().then(sayNet);
  draw();
  keep().then(send);
};
