// What calls a technician who looks elsewhere: a tone and a vibration when a reading is settled or due, and a screen
// that stays awake while a run or a sheet is open. Both are this browser's own choice, kept in it.
const KEY = "brumel-call-out";

export const isCalling = () => window.localStorage.getItem(KEY) !== "no";
export const setCalling = (isOn) => window.localStorage.setItem(KEY, isOn ? "yes" : "no");

let sound;

export const callOut = () => {
  if (!isCalling()) return;
  navigator.vibrate?.(200);
  try {
    sound ??= new window.AudioContext();
    const tone = sound.createOscillator();
    const loudness = sound.createGain();
    tone.frequency.value = 880;
    loudness.gain.setValueAtTime(0.2, sound.currentTime);
    loudness.gain.exponentialRampToValueAtTime(0.001, sound.currentTime + 0.4);
    tone.connect(loudness).connect(sound.destination);
    tone.start();
    tone.stop(sound.currentTime + 0.4);
  } catch {
    // A browser without sound still vibrates or shows it.
  }
};

const stayAwake = async () => {
  if (document.visibilityState !== "visible") return;
  try {
    await navigator.wakeLock?.request("screen");
  } catch {
    // Refused, as on a low battery: the screen sleeps when it likes.
  }
};
document.addEventListener("visibilitychange", stayAwake);
stayAwake();

const choice = document.querySelector("[data-calling]");
if (choice) {
  choice.checked = isCalling();
  choice.addEventListener("change", () => setCalling(choice.checked));
}
