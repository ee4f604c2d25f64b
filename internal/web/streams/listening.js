import { meet } from "./meeting.js";

// Listening: the view's sound plays here, and its level moves.
let ear = null;

export function endListening() {
  if (!ear) return;
  const e = ear;
  ear = null;
  clearInterval(e.beat);
  if (e.pc) e.pc.close();
  if (e.audio) e.audio.close();
  e.button.setAttribute("aria-pressed", "false");
  e.button.textContent = "Listen";
}

async function listen(button) {
  endListening();
  const box = button.closest("#listen");
  const says = box.querySelector("[role=status]");
  const level = box.querySelector("meter");
  const figure = box.querySelector("[data-level]");
  const e = { button, pc: new RTCPeerConnection(), audio: new AudioContext(), beat: 0 };
  ear = e;
  button.setAttribute("aria-pressed", "true");
  button.textContent = "Stop listening";
  says.textContent = "";
  e.pc.ontrack = (t) => {
    const sound = new MediaStream([t.track]);
    new Audio().srcObject = sound; // a browser decodes what an element takes
    const from = e.audio.createMediaStreamSource(sound);
    const meter = new AnalyserNode(e.audio, { fftSize: 2048 });
    from.connect(meter).connect(e.audio.destination);
    const samples = new Float32Array(meter.fftSize);
    e.beat = setInterval(() => {
      meter.getFloatTimeDomainData(samples);
      let power = 0;
      for (const x of samples) power += x * x;
      const db = Math.max(-60, 10 * Math.log10(power / samples.length || 1e-9));
      level.value = db;
      figure.textContent = db.toFixed(0).replace("-", "−") + " dB";
    }, 100);
  };
  e.pc.onconnectionstatechange = () => {
    if (["failed", "disconnected"].includes(e.pc.connectionState) && ear === e) {
      endListening();
      says.textContent = "The sound broke off.";
    }
  };
  try {
    await meet(e.pc, box, "listening", "recvonly");
  } catch (why) {
    if (ear === e) endListening();
    says.textContent = why.message;
  }
}

document.addEventListener("click", (e) => {
  const button = e.target.closest("[data-listen]");
  if (!button) return;
  if (ear && ear.button === button) endListening();
  else listen(button);
});
