import { useEffect } from "react";

/**
 * useAwake keeps the screen on while a page is open that is used at the rack. Browsers end it when the page is
 * hidden.
 */
export function useAwake(on: boolean) {
  useEffect(() => {
    if (!on || !("wakeLock" in navigator)) return;
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const ask = () => {
      if (document.visibilityState !== "visible") return;
      navigator.wakeLock.request("screen").then(
        (l) => (over ? void l.release() : (lock = l)),
        () => undefined, // an empty battery, or a rule of the device: the screen goes off as usual
      );
    };
    ask();
    document.addEventListener("visibilitychange", ask);
    return () => {
      over = true;
      document.removeEventListener("visibilitychange", ask);
      void lock?.release();
    };
  }, [on]);
}

const every = 5000; // ms between two calls while the alarm lasts

/** useAlarm calls by sound and vibration while an alarm lasts: the phone may be in a pocket. key names the alarms. */
export function useAlarm(key: string) {
  useEffect(() => {
    if (key === "") return;
    const call = () => {
      if (navigator.userActivation?.hasBeenActive) navigator.vibrate?.([400, 150, 400, 150, 400]);
      beep();
    };
    call();
    const timer = setInterval(call, every);
    return () => {
      clearInterval(timer);
      if (navigator.userActivation?.hasBeenActive) navigator.vibrate?.(0);
    };
  }, [key]);
}

let audio: AudioContext | undefined;

/** beep plays three short tones. A browser plays nothing before the person has used the page. */
function beep() {
  if (!("AudioContext" in window) || navigator.userActivation?.hasBeenActive === false) return;
  audio ??= new AudioContext();
  if (audio.state === "suspended") void audio.resume();
  for (const i of [0, 1, 2]) {
    const tone = audio.createOscillator();
    const volume = audio.createGain();
    const from = audio.currentTime + 0.35 * i;
    tone.frequency.value = 880;
    volume.gain.value = 0.2;
    tone.connect(volume).connect(audio.destination);
    tone.start(from);
    tone.stop(from + 0.2);
  }
}
