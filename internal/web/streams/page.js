// The camera that is looked at moves: its stream comes over WebRTC, as the camera codes it. Where
// that can't be the still stays, and the reason stands under it.
const KEEP = 30000; // ms: so often a page says that it still looks
const HIDDEN = 60000; // ms: a page that nobody sees lets go after so long
const AGAIN = [1000, 3000, 9000]; // ms: a picture that breaks off is asked for again

let running = null;

export function watch(figure) {
  const source = figure.dataset.moving;
  const video = figure.querySelector("video");
  const still = figure.querySelector("img");
  const caption = figure.querySelector("figcaption");
  const place = figure.dataset.place;
  const plain = caption.textContent;
  let pc = null;
  let call = 0;
  let tries = 0;
  let keeper = 0;
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
  const let_go = () => {
    clearInterval(keeper);
    if (pc) pc.close();
    pc = null;
    show(false);
  };
  const broke = () => {
    if (over || !pc) return;
    let_go();
    if (tries < AGAIN.length) {
      say(place + ": the picture broke off and is asked for again.");
      setTimeout(start, AGAIN[tries++]);
    } else say(place + ": the picture broke off again and again. " + plain.trim());
  };
  const start = async () => {
    if (over || pc || !figure.isConnected) return;
    const codecs = window.RTCRtpReceiver ? RTCRtpReceiver.getCapabilities("video").codecs : [];
    if (!codecs.some((c) => c.mimeType.toLowerCase() === "video/h264")) {
      say(place + ": this browser has no H.264 decoder; the still is fetched again every few seconds.");
      return;
    }
    const mine = new RTCPeerConnection();
    pc = mine;
    mine.addTransceiver("video", { direction: "recvonly" });
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
        let_go();
        say(place + ": " + answer.trouble);
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
  video.addEventListener("playing", () => {
    tries = 0;
    show(true);
    say(place + ": moving, as the camera sends it.");
  });
  let away = 0;
  const seen = () => {
    clearTimeout(away);
    if (document.hidden) away = setTimeout(let_go, HIDDEN);
    else start();
  };
  document.addEventListener("visibilitychange", seen);
  start();
  return {
    source,
    figure,
    end() {
      over = true;
      document.removeEventListener("visibilitychange", seen);
      let_go();
    },
  };
}

// What is looked at may be exchanged while the page lives on.
function look() {
  const figure = document.querySelector("figure[data-moving]");
  if (running && figure === running.figure && figure.dataset.moving === running.source) return;
  if (running) running.end();
  running = figure ? watch(figure) : null;
}
look();
new MutationObserver(look).observe(document.querySelector("main") || document.body, { childList: true, subtree: true });
