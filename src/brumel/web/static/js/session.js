// On every signed-in page: the kept pages of this person open without a signal until the session runs out, and signing
// out says what still waits before the kept pages are cleared. The visits themselves stay.
import { clear, unlock, waiting, waitWords } from "./kept.js";

const { user, until } = document.body.dataset;
unlock(user, until);

// A page the browser shows again as it was left may hold a key that is used up, or belong to a session that has ended.
window.addEventListener("pageshow", (event) => {
  if (event.persisted) window.location.reload();
});

const form = document.querySelector("[data-sign-out]");
let isAgreed = false;
form?.addEventListener("submit", async (event) => {
  if (isAgreed) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  const left = await waiting();
  if (
    left.length &&
    !window.confirm(
      `${waitWords(left)} to be sent from this phone. Signing out clears the kept pages of the round; they stay here and are sent when you sign in again. Sign out?`,
    )
  )
    return;
  await clear();
  isAgreed = true;
  form.requestSubmit();
});
