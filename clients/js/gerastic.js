// Fragments of a Gerastic node: what an application makes is found, or filled once for all
// who ask. For Node 20 and browsers; it needs nothing but fetch. See gerastic.d.ts.

import { decode, encode } from './cbor.js'
import { sha256 } from './sha256.js'

const name = /^[A-Za-z0-9_.-]{1,64}$/
const maxKeys = 1000
const packFrom = 16 << 10
const breakAfter = 5
const breakFor = 2000

/** The lifetime, in seconds, of what only a purge or a new version ends. */
export const forever = 100 * 365 * 24 * 3600

const units = { ms: 0.001, s: 1, m: 60, h: 3600, d: 86400 }

/** Reads a length of time: seconds, or "90s", "15m", "1h", "1d", "forever". */
export function seconds(time, what = 'lifetime') {
  if (time === 'forever') return forever
  const [, number, unit] = (typeof time === 'string' && /^(\d+(?:\.\d+)?)(ms|s|m|h|d)$/.exec(time)) || []
  const read = typeof time === 'number' ? time : number === undefined ? NaN : Number(number) * units[unit]
  if (!(read >= 0 && read < Infinity)) throw new TypeError(`${what}: ${JSON.stringify(time)} is no length of time; write "90s", "15m", "1h", "1d" or "forever"`)
  return Math.min(read, forever)
}

const words = ['name', 'parts', 'version', 'lifetime', 'stale', 'tags', 'type', 'encoder']

/** A node: it gives the fragments of an application, and takes purges and changes. */
export class Gerastic {
  #options

  constructor({ control, token, namespace = '', fetch = globalThis.fetch }) {
    if (!/^https?:\/\//.test(control ?? '')) throw new TypeError(`control: ${JSON.stringify(control)} is no address; write http://127.0.0.1:8490`)
    if (!token) throw new TypeError('a token is missing; make one with: gerastic token create --name APP --rights fragments --namespace APP')
    this.#options = { control: control.replace(/\/$/, ''), token, namespace, fetch }
  }

  /** The parts of pages that the application makes; times may be "250ms". Make one for its life. */
  fragments(options = {}) {
    const ms = (name) => (typeof options[name] === 'string' ? { [name]: seconds(options[name], name) * 1000 } : {})
    return new Fragments({ ...this.#options, ...options, ...ms('timeout'), ...ms('wait'), ...ms('lease') })
  }

  /** Purges on every node: tags, urls, below, routes, hosts, all, mode, reason. If it throws, nothing is known to be purged. */
  async purge(order) {
    const lists = ['tags', 'urls', 'below', 'routes', 'hosts']
    const unknown = Object.keys(order).filter((name) => ![...lists, 'all', 'mode', 'reason'].includes(name))
    if (unknown.length > 0) throw new TypeError(`a purge names tags, urls, below, routes, hosts or all; there is no ${unknown.join(', ')}`)
    for (const name of lists) if (order[name] !== undefined && !Array.isArray(order[name])) throw new TypeError(`${name} is a list; write [${JSON.stringify(order[name])}]`)
    if (!order.all && !lists.some((name) => order[name]?.length > 0)) throw new TypeError('the purge names nothing; give tags, urls, below, routes or hosts, or all: true')
    return callJSON(this.#options, 'POST', '/v1/purges', order)
  }

  /** Tells of something that changed, after the commit; before null is a create, after null a delete. */
  changed(kind, before, after) {
    const op = before == null ? 'create' : after == null ? 'delete' : 'update'
    return callJSON(this.#options, 'POST', '/v1/changes', { changes: [{ kind, op, before: before ?? undefined, after: after ?? undefined }] })
  }
}

async function callJSON({ control, token, fetch }, method, path, value) {
  const body = value === undefined ? undefined : JSON.stringify(value)
  const answer = await fetch(control + path, { method, body, signal: AbortSignal.timeout(10_000), headers: { Authorization: `Bearer ${token}`, ...(body && { 'Content-Type': 'application/json' }) } })
  if (answer.status === 204) return null
  const read = await answer.json().catch(() => null)
  if (!answer.ok || read === null) throw Object.assign(new Error(read?.detail ?? `it answered ${answer.status}, and not with what it should`), { status: answer.status })
  return read
}

/** The key of a fragment: name("part",2)@"version". */
export function keyOf({ name: called, parts, version }) {
  parts ??= []
  if (!name.test(called ?? '')) throw new TypeError(`a fragment's name has 1 to 64 letters, digits, -, _ and .; ${JSON.stringify(called)} is none`)
  if (!Array.isArray(parts)) throw new TypeError(`the parts of the fragment ${called} are a list; write [${JSON.stringify(parts)}]`)
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

  constructor({ control, token, namespace = '', timeout = 250, wait = 5000, lease = 30000, parallel = 8, fetch: fetchWith = globalThis.fetch, warn = console.warn, off = globalThis.process?.env?.GERASTIC_FRAGMENTS === 'off' }) {
    this.#control = control.replace(/\/$/, '')
    this.#token = token
    this.#options = { timeout, wait, lease, parallel, fetch: fetchWith, warn, off, query: namespace && '?namespace=' + encodeURIComponent(namespace) }
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

  /** A fragment, or null if it is not there, or stale. */
  async load(fragment) {
    return (await this.loadAll([fragment]))[0]
  }

  /** Many fragments, null for those that are not there. */
  async loadAll(fragments) {
    const scope = this.page()
    const all = fragments.map((f, at) => this.#wanted(scope, f, at, false))
    for (let from = 0; !this.#options.off && from < all.length; from += maxKeys) {
      const open = all.slice(from, from + maxKeys)
      const answers = await this.#lookup(open, true, false, 0).catch((error) => this.#failed(error))
      for (const [i, a] of answers?.items.entries() ?? []) if (a.state === 'fresh') open[i].found = await this.#use(scope, open[i], a, answers, false)
    }
    return all.map((p) => (p.found ? p.value : null))
  }

  /** Stores a fragment; false if a purge came between, or the node was not reached. */
  async store(fragment, value) {
    const scope = this.page()
    const one = this.#wanted(scope, fragment, 0, true)
    one.bytes = one.coder.encode(value)
    one.made = { scope, took: 0, until: one.lifetime >= forever ? Infinity : Date.now() + one.lifetime * 1000 }
    // A lease of its own, so that a purge that comes now is not overtaken.
    const answers = this.#options.off ? undefined : await this.#lookup([one], false, true).catch((error) => this.#failed(error))
    one.lease = answers?.items[0].lease
    return Boolean(one.lease) && (await this.#store([one])) === 1
  }

  /** Drops a fragment on every node. */
  async drop(fragment) {
    await callJSON({ control: this.#control, token: this.#token, fetch: this.#options.fetch }, 'DELETE', `/v1/fragments/${encodeURIComponent(keyOf(fragment))}${this.#options.query}`)
  }

  /** Waits for the fills that go on behind callers. */
  async settle() {
    while (this.#behind.size > 0) await Promise.allSettled(this.#behind)
  }

  // into finds or fills what goes into a scope.
  async into(scope, fragments, fill, renew = false) {
    const all = fragments.map((f, at) => this.#wanted(scope, f, at, true))
    if (this.#options.off) await this.#sideBySide(all, (fragment) => this.#make(scope, fragment, fill))
    else for (let from = 0; from < all.length; from += maxKeys) await this.#settleBatch(scope, all.slice(from, from + maxKeys), fill, renew)
    const failed = all.find((p) => p.error)
    if (failed) throw failed.error
    return all.map((p) => p.value)
  }

  #wanted(scope, f, at, needsLife) {
    const unknown = Object.keys(f).filter((word) => !words.includes(word))
    if (unknown.length > 0) throw new TypeError(`a fragment has ${words.join(', ')}; it has no ${unknown.join(', ')}`)
    const key = keyOf(f)
    const lifetime = seconds(f.lifetime ?? 0)
    if (needsLife && !(lifetime > 0)) throw new TypeError(`the fragment ${f.name} has no lifetime; give one, such as lifetime: "1h", or "forever" if only purges and versions end it`)
    if (f.tags !== undefined && !Array.isArray(f.tags)) throw new TypeError(`the tags of the fragment ${f.name} are a list; write [${JSON.stringify(f.tags)}]`)
    const item = { key: '', found: '', took: 0, age: 0, depth: scope.state.depth + 1 }
    scope.state.report.push(item)
    return { ...f, lifetime, stale: seconds(f.stale ?? 0, 'stale'), coder: f.encoder ?? text, at, key, item, began: performance.now() }
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

  async #lookup(open, fresh, renew, lease = this.#options.lease) {
    if (Date.now() < this.#restUntil) throw new Error('Gerastic did not answer several times, and is done without for a moment')
    const wait = lease > 0 ? this.#options.wait : 0
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
    let stored = 0
    try {
      for (const result of await this.#call('store', encode(...offers), 3 * this.#options.timeout)) {
        if (result.stored) stored++
        else if (!offers[result.at].failed) this.counts.refused++
      }
    } catch (error) {
      this.#failed(error)
    }
    return stored
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
    return this.fragments.into(this, fragments, fill)
  }

  hold(called, { tags, until, stamp }) {
    this.tag(...tags)
    this.state.parts.add(called)
    this.state.until = Math.min(this.state.until, until)
    this.state.stamp = Math.min(this.state.stamp, stamp)
    this.state.fragments = true
  }

  /**
   * Reports whether the visitor has the page already, by when what it shows changed and what else it depends
   * on. Then the answer is 304 with headers(). The page carries the validators in any case.
   */
  unchanged(requestHeaders, { modified, parts = [] } = {}) {
    if (!modified && parts.length === 0) throw new TypeError('unchanged needs to know what the page depends on: modified, parts, or both')
    const etag = `"${sha256(keyOf({ name: 'page', parts, version: modified })).slice(0, 32)}"`
    this.state.validators = { ETag: etag, ...(modified && { 'Last-Modified': modified.toUTCString() }) }
    const given = typeof requestHeaders.get === 'function' ? requestHeaders : new Headers(requestHeaders)
    const names = given.get('if-none-match')
    if (names !== null) return names.split(',').some((name) => name.trim() === '*' || name.trim().replace(/^W\//, '') === etag)
    const since = Date.parse(given.get('if-modified-since') ?? '')
    return Boolean(modified) && parts.length === 0 && Math.floor(modified.getTime() / 1000) * 1000 <= since // a date does not tell the parts
  }

  /** The fragments that were asked for so far. */
  report() {
    return this.state.report.filter((item) => item.key)
  }

  /** The headers with which a page tells the edge, and Server-Timing, of what is in it. */
  headers() {
    const { tags, fragments, until, stamp } = this.state
    const headers = { ...this.state.validators }
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
export function quoted(s) {
  if (/^[\x20-\x7e]*$/.test(s)) return `"${s.replace(/["\\]/g, '\\$&')}"`
  return `%"${Array.from(new TextEncoder().encode(s), (b) => (b < 0x20 || b > 0x7e || b === 0x25 || b === 0x22 ? '%' + b.toString(16).padStart(2, '0') : String.fromCharCode(b))).join('')}"`
}

async function through(bytes, transform) {
  return new Uint8Array(await new Response(new Blob([bytes]).stream().pipeThrough(transform)).arrayBuffer())
}
const gzip = (bytes) => through(bytes, new CompressionStream('gzip'))
const gunzip = (bytes) => through(bytes, new DecompressionStream('gzip'))
