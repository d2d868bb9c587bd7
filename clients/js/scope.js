// What goes into a page, or into a fragment while it is filled.

import { forever, keyOf } from './key.js'
import { sha256 } from './sha256.js'

const mostReport = 500
const mostKept = 1000

/** How many purges this process has ordered: what a page had at hand before one may be old. */
export const purges = { ordered: 0 }

// The page or fragment that is being made. Browsers do not know it: there it must be handed on.
const AsyncLocalStorage = globalThis.process?.getBuiltinModule?.('node:async_hooks').AsyncLocalStorage
const making = AsyncLocalStorage && new AsyncLocalStorage()

/** The page or fragment that is being made here, in Node. */
export const current = () => making?.getStore()

/** What goes into a page, or into a fragment while it is filled. */
export class Scope {
  constructor(fragments, { outer, requestHeaders, ...state } = {}) {
    this.fragments = fragments
    this.state = { tags: new Set(), parts: new Set(), until: Infinity, stamp: Infinity, fragments: false, fragment: false, depth: 0, work: {}, report: outer?.state.report ?? [], found: outer?.state.found ?? new Map(), ...state }
    this.requestHeaders = requestHeaders
    this.notModified = false // the visitor has the page already
  }

  /** Runs what makes the page; in Node, what it asks for goes into it wherever it is asked for. */
  within(make) {
    return making ? making.run(this, make) : make()
  }

  /** A place in the report for a fragment of this. */
  begin() {
    const item = { key: '', found: '', took: 0, age: 0, depth: this.state.depth + 1 }
    if (this.state.report.length < mostReport) this.state.report.push(item)
    return item
  }

  /** Counts what it took to make this: page.did({ queries: 1, rows: 20 }). */
  did(amounts) {
    for (const [name, amount] of Object.entries(amounts)) this.state.work[name] = (this.state.work[name] ?? 0) + amount
  }

  /** Notes that what is made here shows these things. */
  tag(...tags) {
    for (const tag of tags) this.state.tags.add(tag)
  }

  async loadOrFill(fragment, fill) {
    return (await this.fragments.into(this, [fragment], (scope) => fill(scope), fill))[0]
  }

  loadOrFillAll(fragments, fill) {
    return this.fragments.into(this, fragments, fill, fill)
  }

  of(thing, fill) {
    return this.fragments.ofInto(this, thing, fill)
  }

  async load(fragment) {
    return (await this.loadAll([fragment]))[0]
  }

  loadAll(fragments) {
    return this.fragments.loadInto(this, fragments)
  }

  // hold takes a fragment over, and has it at hand for the rest of the page.
  hold(key, called, found) {
    const { tags, until, stamp } = found
    this.tag(...tags)
    if (this.state.found.size < mostKept) this.state.found.set(key, { ...found, purges: purges.ordered })
    this.state.parts.add(called)
    this.state.until = Math.min(this.state.until, until)
    this.state.stamp = Math.min(this.state.stamp, stamp)
    this.state.fragments = true
  }

  /**
   * Reports whether the visitor has the page already, by when what it shows changed and what else it depends
   * on. Then the answer is 304 with headers(). The page carries the validators in any case. Behind the middleware of
   * gerastic/web the headers of the request may be left out (null), and the answer becomes a 304 of itself.
   */
  unchanged(requestHeaders, { modified, parts = [] } = {}) {
    const given = requestHeaders ?? this.requestHeaders
    if (!given) throw new TypeError('unchanged needs the headers of the request')
    this.notModified = this.#same(typeof given.get === 'function' ? given : new Headers(Object.entries(given).map(([name, value]) => [name, String(value)])), modified, parts)
    return this.notModified
  }

  #same(given, modified, parts) {
    if (!modified && parts.length === 0) throw new TypeError('unchanged needs to know what the page depends on: modified, parts, or both')
    const etag = `"${sha256(keyOf({ name: 'page', parts, version: modified })).slice(0, 32)}"`
    this.state.validators = { ETag: etag, ...(modified && { 'Last-Modified': modified.toUTCString() }) }
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
    const { tags, fragments, until, stamp, work } = this.state
    const headers = { ...this.state.validators }
    if (Object.keys(work).length > 0) headers['Gerastic-Work'] = Object.entries(work).map(([name, amount]) => `${name}=${Number(amount.toFixed(3))}`).join(', ')
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

