// Samples to a WAV file: mono, 16 bit.

// Floating samples of -1..1 as whole ones; too loud ones are cut.
export function pcm16(block) {
  return Int16Array.from(block, (sample) => Math.round(Math.max(-1, Math.min(1, sample)) * 32767));
}

export function wavFrom(blocks, rate) {
  return wavOf(blocks.map(pcm16), rate);
}

// Blocks of 16-bit samples, one after the other.
export function wavOf(blocks, rate) {
  const count = blocks.reduce((sum, block) => sum + block.length, 0);
  const view = new DataView(new ArrayBuffer(44 + 2 * count));
  const text = (at, word) => [...word].forEach((c, i) => view.setUint8(at + i, c.charCodeAt(0)));
  text(0, "RIFF");
  view.setUint32(4, 36 + 2 * count, true);
  text(8, "WAVEfmt ");
  view.setUint32(16, 16, true);
  view.setUint16(20, 1, true);
  view.setUint16(22, 1, true);
  view.setUint32(24, rate, true);
  view.setUint32(28, 2 * rate, true);
  view.setUint16(32, 2, true);
  view.setUint16(34, 16, true);
  text(36, "data");
  view.setUint32(40, 2 * count, true);
  let at = 44;
  for (const block of blocks) {
    for (const sample of block) {
      view.setInt16(at, sample, true);
      at += 2;
    }
  }
  return new Blob([view.buffer], { type: "audio/wav" });
}
