// SHA-256 (FIPS 180-4) of a text, at once: the platform's own is asynchronous, and a page must know before it is
// made whether the visitor has it.

const constants = (() => {
  const roots = []
  for (let n = 2; roots.length < 64; n++) if (!roots.some((p) => n % p === 0)) roots.push(n)
  const part = (x) => ((x - Math.floor(x)) * 0x100000000) | 0
  return { start: roots.slice(0, 8).map((p) => part(Math.sqrt(p))), round: roots.map((p) => part(Math.cbrt(p))) }
})()

/** The digest in hexadecimal. */
export function sha256(text) {
  const data = new TextEncoder().encode(text)
  const padded = new Uint8Array(((data.length + 8) >> 6) * 64 + 64)
  padded.set(data)
  padded[data.length] = 0x80
  const view = new DataView(padded.buffer)
  view.setBigUint64(padded.length - 8, BigInt(data.length) * 8n)
  const state = [...constants.start]
  const turn = (x, n) => (x >>> n) | (x << (32 - n))
  const w = new Int32Array(64)
  for (let at = 0; at < padded.length; at += 64) {
    for (let i = 0; i < 64; i++) {
      if (i < 16) w[i] = view.getInt32(at + 4 * i)
      else {
        const [a, b] = [w[i - 15], w[i - 2]]
        w[i] = w[i - 16] + (turn(a, 7) ^ turn(a, 18) ^ (a >>> 3)) + w[i - 7] + (turn(b, 17) ^ turn(b, 19) ^ (b >>> 10))
      }
    }
    let [a, b, c, d, e, f, g, h] = state
    for (let i = 0; i < 64; i++) {
      const one = (h + (turn(e, 6) ^ turn(e, 11) ^ turn(e, 25)) + ((e & f) ^ (~e & g)) + constants.round[i] + w[i]) | 0
      const two = ((turn(a, 2) ^ turn(a, 13) ^ turn(a, 22)) + ((a & b) ^ (a & c) ^ (b & c))) | 0
      ;[h, g, f, e, d, c, b, a] = [g, f, e, (d + one) | 0, c, b, a, (one + two) | 0]
    }
    ;[a, b, c, d, e, f, g, h].forEach((v, i) => (state[i] = (state[i] + v) | 0))
  }
  return state.map((v) => (v >>> 0).toString(16).padStart(8, '0')).join('')
}
