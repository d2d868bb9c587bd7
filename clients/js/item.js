// What an application says of a fragment, and the fragment on its way through a load.

import { forever, keyOf, seconds } from './key.js'

const words = ['name', 'parts', 'version', 'lifetime', 'stale', 'tags', 'nothing', 'type', 'encoder']
const packFrom = 16 << 10
const nothingType = 'application/x-nothing'

export const bytes = { type: 'application/octet-stream', encode: (v) => v, decode: (b) => b }
export const text = { type: 'text/html; charset=utf-8', encode: (v) => new TextEncoder().encode(v), decode: (b) => new TextDecoder('utf-8', { fatal: true }).decode(b) }
export const json = { type: 'application/json', encode: (v) => new TextEncoder().encode(JSON.stringify(v)), decode: (b) => JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(b)) }

// plain is for fragments without an encoder: text, or bytes where the fill made bytes.
const plain = {
  type: text.type,
  encode: (v) => (v instanceof Uint8Array ? v : text.encode(v)),
  decode: (b, type) => (/^text\/|json|utf-8/.test(type || text.type) ? text.decode(b) : b.slice()),
}

/** Reads what an application says; a TypeError says what is wrong with it. */
export function wanted(scope, f, at, defaults, needsLife = true) {
  const unknown = Object.keys(f).filter((word) => !words.includes(word))
  if (unknown.length > 0) throw new TypeError(`a fragment has ${words.join(', ')}; it has no ${unknown.join(', ')}`)
  const key = keyOf(f)
  const lifetime = seconds(f.lifetime ?? defaults.lifetime ?? 0, `lifetime of the fragment ${f.name}`)
  if (needsLife && !(lifetime > 0)) throw new TypeError(`the fragment ${f.name} has no lifetime; give one, such as 1h, or forever if only purges and versions end it`)
  if (f.tags !== undefined && !Array.isArray(f.tags)) throw new TypeError(`the tags of the fragment ${f.name} are a list`)
  if (f.tags?.some((tag) => typeof tag !== 'string' || !tag)) throw new TypeError(`a tag of the fragment ${f.name} is not a text of 1 to 1024 bytes`)
  return { name: f.name, parts: f.parts ?? [], type: f.type, key, lifetime, stale: seconds(f.stale ?? 0, `stale of the fragment ${f.name}`), nothing: seconds(f.nothing ?? 0, `nothing of the fragment ${f.name}`), tags: [...new Set([...defaults.tags, ...(f.tags ?? [])])], coder: f.encoder ?? plain, at, item: scope.begin(), began: performance.now() }
}

/** One that is not in order: it has no key, and is filled without being stored. */
export const bad = (f, at) => ({ name: f?.name, parts: [], key: '', lifetime: 0, stale: 0, nothing: 0, tags: [], coder: f?.encoder ?? plain, at, item: {}, began: performance.now() })

/** The words of a thing that says its own name, parts, version and lifetime (fragmentKey) and tags (fragmentTags). */
export function itemOf(thing) {
  if (typeof thing?.fragmentKey !== 'function') throw new TypeError('of takes a thing with fragmentKey(), which returns name, parts, version and lifetime')
  const said = thing.fragmentKey()
  const [called, parts, version, lifetime] = Array.isArray(said) ? said : typeof said === 'string' ? [said] : []
  const item = Array.isArray(said) || typeof said === 'string' ? { name: called, parts, version, lifetime } : { ...said }
  if (typeof thing.fragmentTags === 'function') item.tags = [...thing.fragmentTags()]
  return Object.fromEntries(Object.entries(item).filter(([, value]) => value !== undefined && value !== null))
}

/** Reads a body as it was filled; null for nothing. */
export const read = (one, body, type) => (type === nothingType ? null : one.coder.decode(body, type))

/** When what was filled ends, in milliseconds since 1970. */
export function endOf(one) {
  const life = one.nothing > 0 && (one.value === null || one.value === undefined) ? one.nothing : one.lifetime
  return life >= forever ? Infinity : Date.now() + life * 1000
}

/** What is stored; or the lease given back, if the fill failed, brought nothing, or what is in it ended. */
export async function offer(one) {
  const nothing = one.value === null || one.value === undefined
  const life = one.made ? (one.made.until === Infinity ? forever : (one.made.until - Date.now()) / 1000) : 0
  if (one.error || !one.made || (life <= 0 && !(one.stale > 0)) || (nothing && !(one.nothing > 0))) return { key: one.key, lease: one.lease, failed: true }
  let body = nothing ? new Uint8Array() : one.coder.encode(one.value)
  let coding = ''
  if (body.length >= packFrom) {
    const packed = await gzip(body)
    if (packed.length < body.length * 0.9) [body, coding] = [packed, 'gzip']
  }
  const inner = one.made.scope.state
  return {
    key: one.key, lease: one.lease, type: nothing ? nothingType : (one.type ?? (one.coder === plain && one.value instanceof Uint8Array ? bytes : one.coder).type), coding, life: Math.max(0, life), stale: one.stale, cost: one.made.took, tags: [...new Set([...one.tags, ...inner.tags])], parts: [...inner.parts], body, work: inner.work,
    ...(one.direct && { direct: true, ...(one.since !== undefined && { since: one.since }) }),
  }
}

async function through(bytes, transform) {
  return new Uint8Array(await new Response(new Blob([bytes]).stream().pipeThrough(transform)).arrayBuffer())
}
const gzip = (bytes) => through(bytes, new CompressionStream('gzip'))
export const gunzip = (bytes) => through(bytes, new DecompressionStream('gzip'))

/** Bodies that the node need not send again, and when each key was last looked up. */
export class AtHand {
  #kept = new Map() // key → { etag, body, type }, the oldest first
  #seen = new Map()
  #bytes = 0

  get(key) {
    const kept = this.#kept.get(key)
    if (kept) {
      this.#kept.delete(key)
      this.#kept.set(key, kept)
    }
    return kept
  }

  put(key, kept) {
    this.#bytes += kept.body.length - (this.#kept.get(key)?.body.length ?? 0)
    this.#kept.delete(key)
    this.#kept.set(key, kept)
    for (const [oldest, { body }] of this.#kept) {
      if (this.#bytes <= 16 << 20 && this.#kept.size <= 10_000) break
      this.#bytes -= body.length
      this.#kept.delete(oldest)
    }
  }

  saw(keys, stamp) {
    for (const key of keys) {
      this.#seen.delete(key)
      this.#seen.set(key, stamp)
    }
    for (const oldest of this.#seen.keys()) {
      if (this.#seen.size <= 10_000) break
      this.#seen.delete(oldest)
    }
  }

  seen = (key) => this.#seen.get(key)
}
