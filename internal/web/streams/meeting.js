// meet offers a connection with one line of sound, and takes the answer.
export async function meet(pc, box, act, direction, track) {
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
