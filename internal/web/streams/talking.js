import { meet } from "./meeting.js";

// Talking through a camera: the microphone while the button is held, or a test tone.
const TONE = 440; // Hz
const TONE_FOR = 2000; // ms

let talk = null;

export function endTalk() {
  if (!talk) return;
  const t = talk;
  talk = null;
  t.over = true;
  t.sound.forEach((end) => end());
  if (t.pc) t.pc.close();
}

// The button was let go: what was said was sent, or there was no time for it.
function letGoOfTalk() {
  const sent = talk.pc && talk.pc.connectionState === "connected";
  const box = talk.box;
  endTalk();
  asks(
    box,
    sent ? "That was sent." : "It was let go before the speaker answered: hold it until it says that it sends.",
    sent,
  );
}

// asks says what was sent, and whether it was heard there is for a person to say.
function asks(box, says, sent) {
  const line = box.querySelector("[role=status]");
  line.textContent = says + (sent ? " Was it heard there? " : "");
  if (!sent) return;
  for (const [text, heard] of [
    ["It was heard", "1"],
    ["It wasn’t", "0"],
  ]) {
    const b = document.createElement("button");
    b.type = "button";
    b.className = "btn btn-sm btn-outline";
    b.textContent = text;
    b.addEventListener("click", async () => {
      const res = await fetch(box.dataset.at + "/heard", {
        method: "POST",
        headers: { "X-CSRF-Token": box.dataset.csrf, Accept: "application/json" },
        body: new URLSearchParams({ source: box.dataset.source, heard }),
      });
      line.textContent = res.ok ? "Written down: " + text.toLowerCase() + " there." : "It couldn’t be written down.";
    });
    line.append(b, " ");
  }
}

// sources of sound, each with what ends it and how it is called.
async function microphone(t) {
  const media = await navigator.mediaDevices.getUserMedia({ audio: true });
  const track = media.getAudioTracks()[0];
  t.sound.push(() => track.stop());
  return { track, called: track.label || "this device's microphone" };
}

async function tone(t) {
  const audio = new AudioContext();
  t.sound.push(() => audio.close());
  await audio.resume();
  const pitch = new OscillatorNode(audio, { frequency: TONE });
  const loud = new GainNode(audio, { gain: 0.4 });
  const out = audio.createMediaStreamDestination();
  pitch.connect(loud).connect(out);
  pitch.start();
  return { track: out.stream.getAudioTracks()[0], called: "a test tone of " + TONE + " Hz" };
}

async function startTalk(button) {
  endTalk();
  const box = button.closest("#talk");
  const says = box.querySelector("[role=status]");
  const t = { over: false, sound: [], pc: null, box, tone: button.dataset.talk === "tone" };
  talk = t;
  try {
    const from = await (button.dataset.talk === "tone" ? tone(t) : microphone(t));
    if (t.over) {
      t.sound.forEach((end) => end());
      return;
    }
    const pc = (t.pc = new RTCPeerConnection());
    pc.onconnectionstatechange = () => {
      if (pc.connectionState === "connected") says.textContent = "Sending " + from.called + ".";
      if (["failed", "disconnected"].includes(pc.connectionState)) {
        says.textContent = "The way to the speaker broke off.";
        endTalk();
      }
      if (pc.connectionState === "connected" && button.dataset.talk === "tone")
        setTimeout(() => {
          if (talk !== t) return;
          endTalk();
          asks(box, "The test tone was sent.", true);
        }, TONE_FOR);
    };
    says.textContent = "Asking for the speaker.";
    await meet(pc, box, "talking", "sendonly", from.track);
  } catch (why) {
    if (talk === t) endTalk();
    says.textContent =
      why.name === "NotFoundError" || why.name === "NotAllowedError"
        ? "This browser gives no microphone: send a test tone."
        : why.message;
  }
}

document.addEventListener("pointerdown", (e) => {
  const button = e.target.closest("[data-talk=microphone]");
  if (button && e.button === 0) startTalk(button);
});
for (const end of ["pointerup", "pointercancel", "blur"])
  window.addEventListener(end, () => {
    if (talk && !talk.tone) letGoOfTalk();
  });
document.addEventListener("keydown", (e) => {
  const button = e.target.closest && e.target.closest("[data-talk=microphone]");
  if (button && (e.key === " " || e.key === "Enter") && !e.repeat) startTalk(button);
});
document.addEventListener("keyup", (e) => {
  if (talk && !talk.tone && (e.key === " " || e.key === "Enter")) letGoOfTalk();
});
document.addEventListener("click", (e) => {
  const button = e.target.closest("[data-talk=tone]");
  if (button) startTalk(button);
});
