// The camera that is looked at moves: its stream comes over WebRTC, as the camera codes it. Where
// that can't be the still stays, and the reason stands under it.
const KEEP = 30000; // ms: so often a page says that it still looks
const HIDDEN = 60000; // ms: a page that nobody sees lets go after so long
const AGAIN = [1000, 3000, 9000, 30000]; // ms: a picture that breaks off is asked for again, the last for ever

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
