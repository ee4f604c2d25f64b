// The camera that is looked at moves: its stream comes over WebRTC, as the camera codes it. Where
// that can't be the still stays, and the reason stands under it.
const KEEP = 30000; // ms: so often a page says that it still looks
const HIDDEN = 60000; // ms: a page that nobody sees lets go after so long
const AGAIN = [1000, 3000, 9000, 30000]; // ms: a picture that breaks off is asked for again, the last for ever

let running = null;

export function watch(figure) {
  const source = figure.dataset.moving;
  const pictures = figure.dataset.codec === "JPEG";
  const video = figure.querySelector(pictures ? "canvas" : "video");
  const still = figure.querySelector("img");
  const caption = figure.querySelector("figcaption [role=status]");
  const place = figure.dataset.place;
  let pc = null;
  let call = 0;
  let tries = 0;
  let keeper = 0;
  let next = 0;
  let over = false;

  const say = (text) => {
    caption.textContent = text;
  };
  const post = (act, fields) =>
    fetch(figure.dataset.at + "/" + act, {
      method: "POST",
      headers: { "X-CSRF-Token": figure.dataset.csrf, Accept: "application/json" },
      body: new URLSearchParams(fields),
    });
  const show = (moves) => {
    video.hidden = !moves;
    if (still) {
      still.hidden = moves;
      still.toggleAttribute("data-still", !moves);
    }
  };
  const letGo = () => {
    clearInterval(keeper);
    if (pc) pc.close();
    pc = null;
    show(false);
  };
  const later = () => {
    clearTimeout(next);
    next = setTimeout(start, AGAIN[Math.min(tries++, AGAIN.length - 1)]);
  };
  const broke = () => {
    if (over || !pc) return;
    letGo();
    say(place + ": the picture broke off and is asked for again.");
    later();
  };
  const start = async () => {
    if (over || pc || document.hidden || !figure.isConnected) return;
    const codecs = window.RTCRtpReceiver ? RTCRtpReceiver.getCapabilities("video").codecs : [];
    if (!pictures && !codecs.some((c) => c.mimeType.toLowerCase() === "video/h264")) {
      say(place + ": this browser has no H.264 decoder; the still is fetched again every few seconds.");
      return;
    }
    const mine = new RTCPeerConnection();
    pc = mine;
    if (pictures) draw(mine.createDataChannel("pictures"), video, () => mine === pc, moves);
    else mine.addTransceiver("video", { direction: "recvonly" });
    mine.ontrack = (e) => {
      video.srcObject = new MediaStream([e.track]);
      video.play().catch(() => {});
    };
    mine.onconnectionstatechange = () => {
      if (mine === pc && ["failed", "disconnected", "closed"].includes(mine.connectionState)) broke();
    };
    try {
      await mine.setLocalDescription(await mine.createOffer());
      const res = await post("watching", { source, offer: mine.localDescription.sdp });
      if (!res.ok) throw new Error(String(res.status));
      const answer = await res.json();
      if (mine !== pc) return;
      if (answer.trouble) {
        letGo();
        say(place + ": " + answer.trouble);
        if (answer.again) later();
        return;
      }
      call = answer.call;
      await mine.setRemoteDescription({ type: "answer", sdp: answer.answer });
    } catch {
      if (mine === pc) broke();
      return;
    }
    keeper = setInterval(async () => {
      if (document.hidden) return;
      const res = await post("looking", { call }).catch(() => null);
      if (res && !res.ok) broke();
    }, KEEP);
  };
  const moves = () => {
    tries = 0;
    show(true);
    say(
      place +
        (pictures ? ": moving, picture by picture, as the camera sends it." : ": moving, as the camera sends it."),
    );
  };
  video.addEventListener("playing", moves);
  let away = 0;
  const seen = () => {
    clearTimeout(away);
    if (document.hidden) away = setTimeout(letGo, HIDDEN);
    else start();
  };
  document.addEventListener("visibilitychange", seen);
  start();
  return {
    source,
    figure,
    end() {
      over = true;
      clearTimeout(next);
      document.removeEventListener("visibilitychange", seen);
      letGo();
    },
  };
}

// A camera without a still is accepted by what is seen moving: the frame goes with the form.
// It is taken of its own picture alone.
const grabbable = (form) =>
  document.querySelector(`figure[data-moving="${form.elements.source.value}"] video:not([hidden])`);
setInterval(() => {
  for (const f of document.querySelectorAll("[data-grab]"))
    for (const b of f.querySelectorAll("button")) {
      b.disabled = !grabbable(f);
      b.title = b.disabled ? "It isn’t moving just now: what moves is accepted." : "";
    }
}, 500);
document.addEventListener("submit", async (e) => {
  const form = e.target.closest("[data-grab]");
  if (!form) return;
  e.preventDefault();
  const video = grabbable(form);
  if (!video) {
    const says = form.querySelector("[role=status]") || form.appendChild(document.createElement("span"));
    says.setAttribute("role", "status");
    says.className = "quiet";
    says.textContent = " It isn’t moving just now: accept it once it does.";
    return;
  }
  const light = form.elements.light.value;
  const canvas = document.createElement("canvas");
  canvas.width = video.videoWidth;
  canvas.height = video.videoHeight;
  canvas.getContext("2d").drawImage(video, 0, 0);
  const picture = await new Promise((done) => canvas.toBlob(done, "image/jpeg", 0.9));
  const files = new DataTransfer();
  files.items.add(new File([picture], "picture.jpg", { type: "image/jpeg" }));
  // The sheet may have been brought up to date meanwhile: a form that is gone can't be sent.
  const here = form.isConnected
    ? form
    : Array.from(document.querySelectorAll("[data-grab]")).find((f) => f.elements.light.value === light);
  if (!here) return;
  here.querySelector("[name=picture]").files = files.files;
  here.elements.shown.value = video.closest("figure").dataset.source;
  here.submit();
});

// JPEG comes picture by picture, each in parts: the last one begins with 1.
function draw(channel, canvas, current, first) {
  let parts = [];
  let shown = 0;
  channel.binaryType = "arraybuffer";
  channel.onmessage = async (e) => {
    const part = new Uint8Array(e.data);
    parts.push(part.subarray(1));
    if (part[0] !== 1) return;
    const whole = new Blob(parts, { type: "image/jpeg" });
    parts = [];
    const picture = await createImageBitmap(whole).catch(() => null);
    if (!picture || !current()) return;
    canvas.width = picture.width;
    canvas.height = picture.height;
    canvas.getContext("2d").drawImage(picture, 0, 0);
    canvas.dataset.shown = String(++shown);
    if (shown === 1) first();
  };
}

// Talking through a camera: the microphone while the button is held, or a test tone.
const TONE = 440; // Hz
const TONE_FOR = 2000; // ms

let talk = null;

function endTalk() {
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

// meet offers a connection with one line of sound, and takes the answer.
async function meet(pc, box, act, direction, track) {
  const line = pc.addTransceiver(track || "audio", { direction });
  const codecs = RTCRtpSender.getCapabilities("audio").codecs;
  line.setCodecPreferences(codecs.filter((c) => c.mimeType.toUpperCase() === "AUDIO/" + box.dataset.codec));
  await pc.setLocalDescription(await pc.createOffer());
  const res = await fetch(box.dataset.at + "/" + act, {
    method: "POST",
    headers: { "X-CSRF-Token": box.dataset.csrf, Accept: "application/json" },
    body: new URLSearchParams({ source: box.dataset.source, offer: pc.localDescription.sdp }),
  });
  if (!res.ok) throw new Error("The server answered " + res.status + ".");
  const answer = await res.json();
  if (answer.trouble) throw new Error(answer.trouble);
  await pc.setRemoteDescription({ type: "answer", sdp: answer.answer });
}

// Listening: the view's sound plays here, and its level moves.
let ear = null;

function endListening() {
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

// Drawing on the picture: while its panel is open, two marks of known size are drawn as lines, or
// a mask as a box.
const ACROSS = 1600;
const DOWN = 900;
const SVG = "http://www.w3.org/2000/svg";

function drawing(panel, shape) {
  const form = panel && panel.querySelector("form [name=shown]") && panel.querySelector("form [name=shown]").form;
  const figure = form && document.querySelector(`figure.still[data-source="${form.elements.source.value}"]`);
  if (!panel || !figure || panel.drawnOn === figure) return;
  panel.drawnOn = figure;
  // What is drawn says whose picture it was drawn on.
  form.addEventListener("submit", () => {
    form.elements.shown.value = figure.isConnected ? figure.dataset.source : "another";
  });
  const svg = figure.querySelector("[data-scale]");
  let drawn = [];
  let now = null;
  const spot = (e) => {
    const box = svg.getBoundingClientRect();
    const part = (v, from, size) => Math.min(1, Math.max(0, (v - from) / size));
    return [part(e.clientX, box.left, box.width), part(e.clientY, box.top, box.height)];
  };
  const clear = () => {
    svg.querySelectorAll("[data-drawn]").forEach((l) => l.remove());
    drawn = [];
  };
  panel.addEventListener("toggle", () => {
    figure.classList.toggle("drawing", panel.open);
    // What is drawn outlives an update of the page.
    figure.toggleAttribute("data-keep", panel.open || "moving" in figure.dataset);
    clear();
    shape.keep(panel, drawn);
  });
  svg.addEventListener("pointerdown", (e) => {
    if (!panel.open) return;
    e.preventDefault();
    svg.setPointerCapture(e.pointerId);
    if (drawn.length === shape.most) clear();
    const [x, y] = spot(e);
    now = document.createElementNS(SVG, shape.element);
    now.setAttribute("class", shape.look);
    now.dataset.drawn = "1";
    now.mark = { x1: x, y1: y, x2: x, y2: y };
    shape.place(now);
    svg.append(now);
  });
  svg.addEventListener("pointermove", (e) => {
    if (!now) return;
    const [x, y] = spot(e);
    Object.assign(now.mark, { x2: x, y2: y });
    shape.place(now);
  });
  svg.addEventListener("pointerup", () => {
    if (!now) return;
    drawn.push(now.mark);
    now = null;
    shape.keep(panel, drawn);
  });
}

const set = (element, attributes) => {
  for (const [k, v] of Object.entries(attributes)) element.setAttribute(k, v);
};

const lines = {
  element: "line",
  look: "mark",
  most: 2,
  place: (l) => set(l, { x1: l.mark.x1 * ACROSS, y1: l.mark.y1 * DOWN, x2: l.mark.x2 * ACROSS, y2: l.mark.y2 * DOWN }),
  keep(panel, drawn) {
    const at = (v) => (100 * v).toFixed(1);
    drawn.forEach((m, i) => {
      const field = panel.querySelector("[name=mark-" + i + "]");
      if (field) field.value = at(m.x1) + " " + at(m.y1) + ", " + at(m.x2) + " " + at(m.y2);
    });
  },
};

const boxes = {
  element: "rect",
  look: "hiddenpart",
  most: 1,
  place(r) {
    const { x1, y1, x2, y2 } = r.mark;
    set(r, {
      x: Math.min(x1, x2) * ACROSS,
      y: Math.min(y1, y2) * DOWN,
      width: Math.abs(x2 - x1) * ACROSS,
      height: Math.abs(y2 - y1) * DOWN,
    });
  },
  keep(panel, drawn) {
    if (!drawn.length) return;
    const { x1, y1, x2, y2 } = drawn[0];
    const edges = { left: Math.min(x1, x2), top: Math.min(y1, y2), right: Math.max(x1, x2), bottom: Math.max(y1, y2) };
    for (const [name, part] of Object.entries(edges)) {
      const field = panel.querySelector("[name=" + name + "]");
      if (field) field.value = (100 * part).toFixed(1);
    }
  },
};

function sizes() {
  drawing(document.querySelector("[data-sizes]"), lines);
  drawing(document.querySelector("[data-boxes]"), boxes);
}

// What is looked at may be exchanged while the page lives on.
function look() {
  const figure = document.querySelector("figure[data-moving]");
  if (running && figure === running.figure && figure.dataset.moving === running.source) return;
  if (running) running.end();
  running = figure ? watch(figure) : null;
}
sizes();
look();
addEventListener("pagehide", () => {
  if (running) running.end();
  endTalk();
  endListening();
  running = null;
});
addEventListener("pageshow", look);
new MutationObserver(() => {
  sizes();
  look();
}).observe(document.querySelector("main") || document.body, { childList: true, subtree: true });
