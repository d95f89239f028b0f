// A line between two programs on this machine: it delays what it carries, carries only so much, and breaks.
import { createServer, connect } from 'node:net';

/** How many bytes lie in the line before it takes no more: what a modem or a router would hold. */
const holds = 256 * 1024;
const tick = 5;

export class Relay {
  up = 0;
  down = 0;
  breaks = 0;
  #server;
  #pairs = new Set();
  #timers = [];
  #ways = { up: [], down: [] };

  /** From a port to a port; at most so many bytes a second each way (all connections together), so many ms late, broken so often (ms). */
  static async open(from, to, { perSecond = Infinity, delay = 0, breaksEvery = 0 }) {
    const relay = new Relay();
    relay.#server = createServer((near) => {
      const far = connect(to, '127.0.0.1');
      const pair = { near, far };
      relay.#pairs.add(pair);
      for (const [way, in_, out] of [['up', near, far], ['down', far, near]]) {
        in_.setNoDelay(true);
        let held = 0;
        const lane = {
          parts: [],
          out,
          took: (size) => {
            held -= size;
            if (held < holds) in_.resume();
          },
        };
        if (perSecond === Infinity && delay === 0) {
          in_.on('data', (part) => {
            relay[way] += part.length;
            if (!out.write(part)) {
              in_.pause();
              out.once('drain', () => in_.resume());
            }
          });
        } else {
          relay.#ways[way].push(lane);
          in_.on('data', (part) => {
            lane.parts.push({ part, at: performance.now() + delay });
            held += part.length;
            if (held >= holds) in_.pause();
          });
        }
        in_.on('error', () => relay.#drop(pair));
        in_.on('close', () => setTimeout(() => relay.#drop(pair), delay + 50));
      }
    });
    await new Promise((go) => relay.#server.listen(from, '127.0.0.1', go));
    if (perSecond !== Infinity || delay > 0)
      for (const way of ['up', 'down']) {
        let [budget, last] = [0, performance.now()];
        relay.#timers.push(
          setInterval(() => {
            const now = performance.now();
            budget = Math.min(budget + ((now - last) / 1000) * perSecond, perSecond / 20);
            last = now;
            const lanes = relay.#ways[way];
            // The connections take turns, a packet each.
            for (let sent = true; sent && budget > 0; ) {
              sent = false;
              for (const lane of lanes) {
                const next = lane.parts[0];
                if (budget <= 0 || !next || next.at > now) continue;
                const piece = next.part.subarray(0, 1448);
                next.part = next.part.subarray(piece.length);
                if (next.part.length === 0) lane.parts.shift();
                budget -= piece.length;
                relay[way] += piece.length;
                if (lane.out.writable) lane.out.write(piece);
                lane.took(piece.length);
                sent = true;
              }
            }
            relay.#ways[way] = lanes.filter((l) => !l.out.destroyed);
          }, tick),
        );
      }
    if (breaksEvery > 0)
      relay.#timers.push(
        setInterval(() => {
          relay.breaks++;
          for (const pair of relay.#pairs) relay.#drop(pair);
        }, breaksEvery),
      );
    return relay;
  }

  reset() {
    [this.up, this.down, this.breaks] = [0, 0, 0];
  }

  #drop(pair) {
    this.#pairs.delete(pair);
    pair.near.destroy();
    pair.far.destroy();
  }

  async close() {
    for (const timer of this.#timers) clearInterval(timer);
    for (const pair of this.#pairs) this.#drop(pair);
    await new Promise((go) => this.#server.close(go));
  }
}
