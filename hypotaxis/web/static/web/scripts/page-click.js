const LENGTH_S = 0.03;
const HIGH = 1600;
const LOW = 1000;
const LOUD = 0.4;

let context = null;
const done = new Set();

// The click of playing in, by the page's own sound: the server says at which moments of the computer's clock, which is the
// page's as well, and each is scheduled once.
export default () => ({
  init() {
    context ??= new AudioContext();
    if (context.state === "suspended") context.resume();
    for (const [number, moment, accent] of JSON.parse(this.$root.dataset.beats)) {
      const inS = moment - Date.now() / 1000 - (context.outputLatency || 0);
      if (done.has(number) || inS < 0) continue;
      done.add(number);
      this.strike(context.currentTime + inS, accent);
    }
    document.body.dataset.clicked = done.size;
  },
  strike(at, accent) {
    const tone = new OscillatorNode(context, { frequency: accent ? HIGH : LOW });
    const gain = new GainNode(context, { gain: LOUD });
    gain.gain.setValueAtTime(LOUD, at);
    gain.gain.exponentialRampToValueAtTime(0.001, at + LENGTH_S);
    tone.connect(gain).connect(context.destination);
    tone.start(at);
    tone.stop(at + LENGTH_S);
  },
});
