// Audio worklet: hands every block of the microphone to the page, and the last partial one when told to finish.

const QUANTUM = 128;

class Capture extends AudioWorkletProcessor {
  constructor() {
    super();
    this.block = new Float32Array(4096);
    this.filled = 0;
    this.done = false;
    this.started = false;
    this.port.onmessage = () => {
      this.port.postMessage(this.block.slice(0, this.filled));
      this.port.postMessage(null);
      this.done = true;
    };
  }

  process([input]) {
    if (this.done) return false;
    // When the first sample was taken, on the audio clock: the clicks' times are told from there.
    if (!this.started) {
      this.started = true;
      this.port.postMessage({ startsAt: currentTime });
    }
    // A microphone that delivers nothing for a while is silence that long: left out, all that follows would come early.
    const channels = Math.max(1, input.length);
    for (let i = 0; i < (input[0]?.length ?? QUANTUM); i += 1) {
      let sum = 0;
      for (const channel of input) sum += channel[i];
      this.block[this.filled] = sum / channels;
      this.filled += 1;
      if (this.filled === this.block.length) {
        this.port.postMessage(this.block.slice());
        this.filled = 0;
      }
    }
    return true;
  }
}

registerProcessor("capture", Capture);
