// Fragments of a Gerastic node: what an application makes is found, or filled once for all
// who ask. For Node 20 and browsers; it needs nothing but fetch. See gerastic.d.ts.

import { decode, encode } from './cbor.js'

const name = /^[A-Za-z0-9_.-]{1,64}$/
const maxKeys = 1000
const packFrom = 16 << 10
const breakAfter = 5
const breakFor = 2000

/** The lifetime, in seconds, of what only a purge or a new version ends. */
export const forever = 100 * 365 * 24 * 3600

/** The key of a fragment: name("part",2)@"version". */
export function keyOf({ name: called, parts = [], version }) {
  if (!name.test(called ?? '')) throw new TypeError(`a fragment's name has 1 to 64 letters, digits, -, _ and .; ${JSON.stringify(called)} is none`)
  let key = `${called}(${parts.map(value).join(',')})`
  if (version !== undefined && version !== null) key += '@' + value(version)
  if (new TextEncoder().encode(key).length > 1024) throw new TypeError(`the key of the fragment ${called} is longer than 1024 bytes; use an identifier, or a digest, in place of a long text`)
  return key
}

// value writes a part so that it reads one way only: as canonical JSON (RFC 8785) does, times
// behind t, bytes in hexadecimal behind x.
function value(v) {
  if (v === null || v === undefined) return 'null'
  if (typeof v === 'string') {
    if (!v.isWellFormed?.() && /\p{Surrogate}/u.test(v)) throw new TypeError('a part that is not text; make it bytes')
    return JSON.stringify(v)
  }
  if (typeof v === 'boolean') return String(v)
  if (typeof v === 'bigint') return v.toString()
  if (typeof v === 'number') {
    if (!Number.isFinite(v)) throw new TypeError(`${v} is not a number that tells things apart`)
    return JSON.stringify(v)
  }
  if (v instanceof Date) return `t"${v.toISOString().replace(/\.?0*Z$/, 'Z')}"`
  if (v instanceof Uint8Array) return `x"${Array.from(v, (b) => b.toString(16).padStart(2, '0')).join('')}"`
  throw new TypeError(`a ${typeof v} cannot be part of a key; use strings, numbers, booleans, dates or bytes`)
}

export const bytes = { type: 'application/octet-stream', encode: (v) => v, decode: (b) => b }
export const text = { type: 'text/html; charset=utf-8', encode: (v) => new TextEncoder().encode(v), decode: (b) => new TextDecoder('utf-8', { fatal: true }).decode(b) }
export const json = { type: 'application/json', encode: (v) => new TextEncoder().encode(JSON.stringify(v)), decode: (b) => JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(b)) }

export class Fragments {
  #control
  #token
  #options
  #running = new Map() // key → the fill that goes on without Gerastic, and the one after it
  #inARow = 0
  #restUntil = 0
  #tokenRefused = false // said already: it is as wrong the next time
  #behind = new Set()

  constructor({ control, token, namespace = '', timeout = 250, wait = 5000, lease = 30000, parallel = 8, fetch: fetchWith = globalThis.fetch, warn = console.warn }) {
    this.#control = control.replace(/\/$/, '')
    this.#token = token
    this.#options = { timeout, wait, lease, parallel, fetch: fetchWith, warn, query: namespace && '?namespace=' + encodeURIComponent(namespace) }
    this.namespace = namespace
    this.counts = { reused: 0, stale: 0, waited: 0, filled: 0, alone: 0, unreached: 0, refused: 0 }
  }

  /** A page that collects what is put into it; see Scope. */
  page() {
    return new Scope(this, { fragment: false, depth: 0, report: [] })
  }

  loadOrFill(fragment, fill) {
    return this.page().loadOrFill(fragment, fill)
  }

  loadOrFillAll(fragments, fill) {
    return this.page().loadOrFillAll(fragments, fill)
  }

  /** Waits for the fills that go on behind callers. */
  async settle() {
    while (this.#behind.size > 0) await Promise.allSettled(this.#behind)
  }

  // load finds or fills what goes into a scope.
  async load(scope, fragments, fill, renew = false) {
    const all = fragments.map((f, at) => {
      const key = keyOf(f)
      if (!(f.lifetime > 0)) throw new TypeError(`the fragment ${f.name} has no lifetime; set lifetime in seconds, or forever if only purges and versions end it`)
      const item = { key: '', found: '', took: 0, age: 0, depth: scope.state.depth + 1 }
      scope.state.report.push(item)
      return { ...f, coder: f.encoder ?? text, at, key, item, began: performance.now() }
    })
    for (let from = 0; from < all.length; from += maxKeys) await this.#settleBatch(scope, all.slice(from, from + maxKeys), fill, renew)
    const failed = all.find((p) => p.error)
    if (failed) throw failed.error
    return all.map((p) => p.value)
  }

  // Its own fills come before it waits for those of others, who may be waiting for them.
  async #settleBatch(scope, open, fill, renew) {
    for (let round = 0; open.length > 0 && round < 4; round++) {
      let answers
      try {
        answers = await this.#lookup(open, scope.state.fragment, renew)
      } catch (error) {
        this.#failed(error)
        break
      }
      renew = false
      const mine = []
      const others = []
      for (const [i, fragment] of open.entries()) {
        const a = answers.items[i]
        if (a.state === 'fresh' || a.state === 'stale') {
          if (!(await this.#use(scope, fragment, a, answers, round > 0, fill))) mine.push(fragment)
        } else if (a.state === 'yours') {
          fragment.lease = a.lease
          mine.push(fragment)
        } else if (a.state === 'filling') others.push(fragment)
        else await this.#alone(scope, [fragment], fill)
      }
      const unreadable = mine.filter((p) => !p.lease)
      const leased = mine.filter((p) => p.lease)
      await this.#sideBySide(leased, (fragment) => this.#make(scope, fragment, fill))
      if (leased.length > 0) await this.#store(leased)
      for (const fragment of leased) if (!fragment.error) this.#take(scope, fragment, answers.stamp, 'filled')
      await this.#alone(scope, unreadable, fill)
      open = others
      if (mine.length === 0) break // it waited already
    }
    await this.#alone(scope, open, fill)
  }

  async #use(scope, fragment, a, answers, waited, fill) {
    try {
      fragment.value = fragment.coder.decode(a.coding === 'gzip' ? await gunzip(a.body) : a.body)
    } catch {
      return false // what an older version of the application stored
    }
    const until = a.left > forever / 2 ? Infinity : Date.now() + a.left * 1000
    scope.hold(`${this.namespace}/${fragment.key}`, { tags: a.tags ?? [], until, stamp: answers.stamp })
    this.#ended(fragment, a.state === 'stale' ? 'stale' : waited || a.waited ? 'waited' : 'reused', a.age)
    if (a.lease) this.#fillBehind(fragment, a.lease, fill)
    return true
  }

  #ended(fragment, found, age = 0) {
    this.counts[found]++
    Object.assign(fragment.item, { key: `${this.namespace}/${fragment.key}`, found, took: performance.now() - fragment.began, age })
  }

  // make runs a fill, in a scope of its own.
  async #make(scope, fragment, fill) {
    const inner = new Scope(this, { fragment: true, depth: scope.state.depth + 1, report: scope.state.report })
    const began = performance.now()
    try {
      fragment.value = await fill(inner, fragment.at)
      fragment.bytes = fragment.coder.encode(fragment.value)
    } catch (error) {
      fragment.error = error
      return
    }
    const end = fragment.lifetime >= forever ? Infinity : Date.now() + fragment.lifetime * 1000
    fragment.made = { scope: inner, took: performance.now() - began, until: Math.min(end, inner.state.until) }
  }

  #take(scope, fragment, stamp, found) {
    const inner = fragment.made.scope.state
    scope.hold(`${this.namespace}/${fragment.key}`, { tags: [...(fragment.tags ?? []), ...inner.tags], until: fragment.made.until, stamp: Math.min(stamp, inner.stamp) })
    this.#ended(fragment, found)
  }

  async #sideBySide(fragments, run) {
    const queue = fragments.values()
    await Promise.all(Array.from({ length: Math.min(this.#options.parallel, fragments.length) }, async () => {
      for (const fragment of queue) await run(fragment)
    }))
  }

  #fillBehind(fragment, lease, fill) {
    const again = { ...fragment, lease, error: undefined, item: {} }
    const work = this.#make(new Scope(this, { fragment: true, depth: 0, report: [] }), again, fill).then(async () => {
      if (again.error) this.#options.warn('a fragment could not be made anew behind a caller:', again.error)
      else this.counts.filled++
      await this.#store([again])
    })
    this.#behind.add(work)
    work.finally(() => this.#behind.delete(work))
  }

  // In each process one at a time fills a key that is not shared: whoever comes while it does
  // gets what the next one makes, which is not older than its asking.
  async #alone(scope, fragments, fill) {
    await this.#sideBySide(fragments.filter((p) => !p.error), async (fragment) => {
      const run = async () => {
        await this.#make(scope, fragment, fill)
        if (fragment.error) throw fragment.error
        return { value: fragment.value, made: fragment.made }
      }
      try {
        Object.assign(fragment, await this.#turn(fragment.key, run))
        this.#take(scope, fragment, Infinity, 'alone')
      } catch (error) {
        fragment.error = error
      }
    })
  }

  #turn(key, run) {
    const now = this.#running.get(key)
    if (!now) {
      const turn = { next: null }
      this.#running.set(key, turn)
      turn.done = this.#after(key, turn, Promise.resolve(), run)
      return turn.done
    }
    if (!now.next) {
      now.next = { next: null }
      now.next.done = this.#after(key, now.next, now.done.catch(() => {}), run)
    }
    return now.next.done
  }

  async #after(key, turn, before, run) {
    await before
    this.#running.set(key, turn)
    try {
      return await run()
    } finally {
      if (turn.next) this.#running.set(key, turn.next)
      else this.#running.delete(key)
    }
  }

  #failed(error) {
    this.counts.unreached++
    if (Date.now() < this.#restUntil) return
    if (!error.token || !this.#tokenRefused) this.#options.warn('fragments are made without Gerastic:', error)
    this.#tokenRefused ||= Boolean(error.token)
    if (++this.#inARow >= breakAfter) this.#restUntil = Date.now() + breakFor
  }

  async #call(what, body, more) {
    const gone = new AbortController()
    let timer = setTimeout(() => gone.abort(new Error('Gerastic did not answer in time')), this.#options.timeout)
    const { fetch } = this.#options // called by itself: a browser's is offended at being another object's method
    try {
      const answer = await fetch(`${this.#control}/v1/fragments/${what}${this.#options.query}`, {
        method: 'POST', body, signal: gone.signal, headers: { Authorization: `Bearer ${this.#token}`, 'Content-Type': 'application/cbor-seq' },
      })
      clearTimeout(timer)
      timer = setTimeout(() => gone.abort(new Error('Gerastic did not answer in time')), this.#options.timeout + more)
      if (!answer.ok) {
        const why = (await answer.json().catch(() => ({}))).detail ?? `status ${answer.status}`
        throw Object.assign(new Error(why), { token: answer.status === 401 || answer.status === 403 })
      }
      this.#tokenRefused = false
      const items = decode(new Uint8Array(await answer.arrayBuffer()))
      this.#inARow = 0
      return items
    } finally {
      clearTimeout(timer)
    }
  }

  async #lookup(open, fresh, renew) {
    if (Date.now() < this.#restUntil) throw new Error('Gerastic did not answer several times, and is done without for a moment')
    const { wait, lease } = this.#options
    const [head, ...found] = await this.#call('lookup', encode({ keys: open.map((p) => p.key), wait, lease, fresh: fresh || undefined, renew: renew || undefined }), wait)
    const items = []
    for (const item of found) items[item.at] = item
    if (found.length !== open.length || items.includes(undefined)) throw new Error('the answer is not whole')
    this.namespace = head.namespace
    return { stamp: head.stamp, items }
  }

  async #store(fragments) {
    const offers = await Promise.all(fragments.map(async (p) => {
      const life = p.made ? (p.made.until === Infinity ? forever : (p.made.until - Date.now()) / 1000) : 0
      if (p.error || (life <= 0 && !(p.stale > 0))) return { key: p.key, lease: p.lease, failed: true }
      let body = p.bytes
      let coding = ''
      if (body.length >= packFrom) {
        const packed = await gzip(body)
        if (packed.length < body.length * 0.9) [body, coding] = [packed, 'gzip']
      }
      const inner = p.made.scope.state
      return { key: p.key, lease: p.lease, type: p.type ?? p.coder.type, coding, life: Math.max(0, life), stale: p.stale ?? 0, cost: p.made.took, tags: [...new Set([...(p.tags ?? []), ...inner.tags])], parts: [...inner.parts], body }
    }))
    try {
      for (const result of await this.#call('store', encode(...offers), 3 * this.#options.timeout)) if (!result.stored && !offers[result.at].failed) this.counts.refused++
    } catch (error) {
      this.#failed(error)
    }
  }
}

/** What goes into a page, or into a fragment while it is filled. */
export class Scope {
  constructor(fragments, state) {
    this.fragments = fragments
    this.state = { tags: new Set(), parts: new Set(), until: Infinity, stamp: Infinity, fragments: false, ...state }
  }

  /** Notes that what is made here shows these things. */
  tag(...tags) {
    for (const tag of tags) this.state.tags.add(tag)
  }

  async loadOrFill(fragment, fill) {
    return (await this.loadOrFillAll([fragment], (scope) => fill(scope)))[0]
  }

  loadOrFillAll(fragments, fill) {
    return this.fragments.load(this, fragments, fill)
  }

  hold(called, { tags, until, stamp }) {
    this.tag(...tags)
    this.state.parts.add(called)
    this.state.until = Math.min(this.state.until, until)
    this.state.stamp = Math.min(this.state.stamp, stamp)
    this.state.fragments = true
  }

  /** The fragments that were asked for so far. */
  report() {
    return this.state.report.filter((item) => item.key)
  }

  /** The headers with which a page tells the edge, and Server-Timing, of what is in it. */
  headers() {
    const { tags, fragments, until, stamp } = this.state
    const headers = {}
    if (tags.size > 0) headers['Cache-Groups'] = [...tags].map(quoted).join(', ')
    if (fragments) {
      const left = until === Infinity ? forever : Math.max(0, (until - Date.now()) / 1000)
      headers['Gerastic-Life'] = (Math.floor(left * 1000) / 1000).toFixed(3) + (stamp === Infinity ? '' : `;as-of=${stamp}`)
    }
    const items = this.report()
    if (items.length > 0) {
      headers['Gerastic-Parts'] = items.slice(0, 200).map((i) => `${quoted(i.key)};found=${i.found};depth=${i.depth};took=${i.took.toFixed(3)}` + (i.found === 'reused' || i.found === 'stale' ? `;age=${Math.floor(i.age)}` : '')).join(', ')
      const sums = {}
      for (const i of items) sums[i.found] = (sums[i.found] ?? 0) + 1
      const longest = Math.max(...items.filter((i) => i.depth === 1).map((i) => i.took), 0)
      headers['Server-Timing'] = `fragments;desc="${['reused', 'stale', 'waited', 'filled', 'alone'].filter((f) => sums[f]).map((f) => `${sums[f]} ${f}`).join(', ')}";dur=${longest.toFixed(1)}`
    }
    return headers
  }
}

// quoted writes a string of a structured field, or a display string if it is not ASCII (RFC 9651).
function quoted(s) {
  if (/^[\x20-\x7e]*$/.test(s)) return `"${s.replace(/["\\]/g, '\\$&')}"`
  return `%"${Array.from(new TextEncoder().encode(s), (b) => (b < 0x20 || b > 0x7e || b === 0x25 || b === 0x22 ? '%' + b.toString(16).padStart(2, '0') : String.fromCharCode(b))).join('')}"`
}

async function through(bytes, transform) {
  return new Uint8Array(await new Response(new Blob([bytes]).stream().pipeThrough(transform)).arrayBuffer())
}
const gzip = (bytes) => through(bytes, new CompressionStream('gzip'))
const gunzip = (bytes) => through(bytes, new DecompressionStream('gzip'))
