import { useEffect, useState } from "react";

const STORE = "moorfog:sound";
const listeners = new Set<() => void>();
let context: AudioContext | null = null;

/** Whether cues are heard here. */
export function isSoundOn(): boolean {
  return localStorage.getItem(STORE) !== "off";
}

/** Switch the cues on or off on this device. */
export function toggleSound(): void {
  localStorage.setItem(STORE, isSoundOn() ? "off" : "on");
  for (const one of listeners) one();
}

function tone(hertz: number, ms: number, at = 0): void {
  if (!isSoundOn()) return;
  try {
    context ??= new AudioContext();
    const start = context.currentTime + at / 1000;
    const wave = context.createOscillator();
    const gain = context.createGain();
    wave.frequency.value = hertz;
    gain.gain.setValueAtTime(0.0001, start);
    gain.gain.exponentialRampToValueAtTime(0.2, start + 0.01);
    gain.gain.exponentialRampToValueAtTime(0.0001, start + ms / 1000);
    wave.connect(gain).connect(context.destination);
    wave.start(start);
    wave.stop(start + ms / 1000 + 0.02);
  } catch {
    // a browser without sound still shows every cue
  }
}

/** The cues: each is seen as well. */
export const cue = {
  beat: () => tone(660, 60),
  soon: () => {
    tone(520, 90);
    tone(520, 90, 160);
  },
  dose: () => tone(880, 240),
  down: () => {
    tone(520, 160);
    tone(330, 260, 170);
  },
  up: () => {
    tone(330, 160);
    tone(520, 260, 170);
  },
  next: () => {
    tone(440, 120);
    tone(590, 160, 140);
  },
};

/** Whether cues are on, and how to switch them. */
export function useSound(): { isOn: boolean; toggle: () => void } {
  const [isOn, setOn] = useState(isSoundOn);
  useEffect(() => {
    const changed = () => setOn(isSoundOn());
    listeners.add(changed);
    return () => {
      listeners.delete(changed);
    };
  }, []);
  return { isOn, toggle: toggleSound };
}
