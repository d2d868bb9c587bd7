// Keys of fragments, and lengths of time.

const name = /^[A-Za-z0-9_.-]{1,64}$/
const units = { ms: 0.001, s: 1, m: 60, h: 3600, d: 86400 }
const deepest = 16

/** The lifetime, in seconds, of what only a purge or a new version ends. */
export const forever = 100 * 365 * 24 * 3600

/** Reads a length of time: seconds, or "90s", "15m", "1h", "1d", "forever". */
export function seconds(time, what = 'lifetime') {
  if (time === 'forever') return forever
  const [, number, unit] = (typeof time === 'string' && /^(\d+(?:\.\d+)?)(ms|s|m|h|d)$/.exec(time)) || []
  const read = typeof time === 'number' ? time : number === undefined ? NaN : Number(number) * units[unit]
  if (!(read >= 0 && read < Infinity)) throw new TypeError(`the ${what}, ${time}, is no length of time; write 90s, 15m, 1h, 1d or forever`)
  return Math.min(read, forever)
}

/** The key of a fragment: name("part",2)@"version". */
export function keyOf({ name: called, parts, version }) {
  parts ??= []
  if (!name.test(called ?? '')) throw new TypeError(`a fragment's name has 1 to 64 letters, digits, -, _ and .; ${called} is not one`)
  if (!Array.isArray(parts)) throw new TypeError(`the parts of the fragment ${called} are a list`)
  let key = `${called}(${parts.map((part) => value(called, part)).join(',')})`
  if (version !== undefined && version !== null) key += '@' + value(called, version)
  if (new TextEncoder().encode(key).length > 1024) throw new TypeError(`the key of the fragment ${called} has more than 1024 bytes; use an identifier, or a digest, in place of a long text`)
  return key
}

// value writes a part so that it reads one way only: as canonical JSON (RFC 8785) does, times
// behind t, bytes in hexadecimal behind x.
function value(called, v, depth = 0) {
  if (v === null || v === undefined) return 'null'
  if (typeof v === 'string') {
    if (!(v.isWellFormed?.() ?? !/\p{Surrogate}/u.test(v))) throw new TypeError(`a part of the fragment ${called} is not text; make it bytes`)
    return JSON.stringify(v)
  }
  if (typeof v === 'boolean') return String(v)
  if (typeof v === 'bigint') return v.toString()
  if (typeof v === 'number' && Number.isFinite(v)) return JSON.stringify(v)
  if (v instanceof Date && Number.isFinite(v.getTime())) return `t"${v.toISOString().replace(/\.?0*Z$/, 'Z')}"`
  if (v instanceof Uint8Array) return `x"${Array.from(v, (b) => b.toString(16).padStart(2, '0')).join('')}"`
  if (Array.isArray(v) && depth < deepest) return `[${v.map((one) => value(called, one, depth + 1)).join(',')}]`
  throw new TypeError(`a part of the fragment ${called} is not a value; parts are text, numbers, booleans, times, bytes, and lists of them`)
}
