// A loop cut into chunks: they end where the server's tiles do and half-way, so that each needs but one of them.
const LEAST_S = 0.1;

export class Chunks {
  // The loop's ends in the song, a tile's length, all in frames.
  constructor({ start, stop, tile, rate }) {
    Object.assign(this, { start, tile, length: stop - start });
    const least = LEAST_S * rate, half = tile / 2;
    this.edges = [0];
    for (let at = (Math.floor(start / half) + 1) * half; at < stop - least; at += half) {
      if (at - start > least) this.edges.push(at - start);
    }
    this.edges.push(this.length);
  }

  get count() { return this.edges.length - 1; }

  // Which chunk holds a place within the loop.
  at(inLoop) {
    return Math.max(0, this.edges.findLastIndex((edge, n) => n < this.count && edge <= inLoop));
  }

  // How many frames of playing lead from a place to where a chunk begins.
  wait(index, from) {
    return (this.edges[index] - from + this.length) % this.length;
  }

  // All chunks from one on, once around the loop, as far as ``most`` frames lead.
  from(first, most = Infinity) {
    const order = Array.from({ length: this.count }, (_, n) => (first + n) % this.count);
    return order.filter((index) => this.wait(index, this.edges[first]) < most);
  }

  endsTile(edge) {
    return (this.start + this.edges[edge]) % this.tile === 0;
  }
}
