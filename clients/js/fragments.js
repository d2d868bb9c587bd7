// Found, or filled once for all who ask. When the node cannot be reached, everything is filled as if it were not there.

import { decode, encode } from './cbor.js'
import { carry } from './carry.js'
import { Check, clashOf, grace, lineOf } from './check.js'
import { AtHand, bad, endOf, gunzip, itemOf, offer, read, wanted } from './item.js'
import { forever, keyOf } from './key.js'
import { Scope, current, purges } from './scope.js'
import { Templates } from './templates.js'

const maxKeys = 1000
const maxChecks = 16
const breakAfter = 5
const breakFor = 2000

/** Makes a call in JSON. If it throws, the error has the status of the answer, if there was one. */
export async function callJSON({ control, token, fetch }, method, path, value) {
  const body = value === undefined ? undefined : JSON.stringify(value)
  const answer = await fetch(control + path, { method, body, signal: AbortSignal.timeout(10_000), headers: { Authorization: `Bearer ${token}`, ...(body && { 'Content-Type': 'application/json' }) } })
  if (answer.status === 204) return null
  const read = await answer.json().catch(() => null)
  if (!answer.ok || read === null) throw Object.assign(new Error(read?.detail ?? `it answered ${answer.status}, and not with what it should`), { status: answer.status })
  return read
}

export class Fragments {
  #control
  #token
  #options
  #running = new Map() // key → the fill that goes on without Gerastic, and the one after it
  #inARow = 0
  #restUntil = 0
  #warned = new Map() // line → when
  #behind = new Set()
  #counts = { found: 0, filled: 0, waited: 0, failed: 0 }
  #atHand = new AtHand()
  #check = new Check()
  #checking = 0 // loads whose keys are checked behind their callers

  constructor({ control, token, namespace = '', timeout = 250, wait = 5000, lease = 30000, parallel = 8, fetch: fetchWith = carry, warn = console.warn, off = globalThis.process?.env?.GERASTIC_FRAGMENTS === 'off', check = 0, lifetime, tags = [] }) {
    if (!(check >= 0 && check <= 1)) throw new TypeError('check is a share from 0 to 1')
    this.#control = control.replace(/\/$/, '')
    this.#token = token
    this.#options = { timeout, wait, lease, parallel, fetch: fetchWith, warn, off, check, lifetime, tags, query: namespace && '?namespace=' + encodeURIComponent(namespace) }
    this.namespace = namespace
  }

  /** What became of fragments: found, filled here, waited for; failed: the node was not reached. */
  counts() {
    return { ...this.#counts }
  }

  /** A page that collects what is put into it; see Scope. */
  page(requestHeaders) {
    return new Scope(this, { requestHeaders })
  }

  #scope = () => (current()?.fragments === this ? current() : this.page())

  loadOrFill(fragment, fill) {
    return this.#scope().loadOrFill(fragment, fill)
  }

  loadOrFillAll(fragments, fill) {
    return this.#scope().loadOrFillAll(fragments, fill)
  }

  /** Does the same for a thing with fragmentKey and perhaps fragmentTags; the fill is given it. */
  of(thing, fill) {
    return this.#scope().of(thing, fill)
  }

  async ofInto(scope, thing, fill) {
    return (await this.into(scope, [itemOf(thing)], (inner) => fill(thing, inner), fill))[0]
  }

  /** Counts what it took to make what is being made here, in Node: did({ queries: 1 }). */
  did(amounts) {
    current()?.did(amounts)
  }

  /** Templates: functions by name, whose blocks are fragments; see gerastic.d.ts. */
  templates(all) {
    return new Templates(this, all)
  }

  /** A fragment, or null if it is not there, or stale. */
  async load(fragment) {
    return (await this.loadAll([fragment]))[0]
  }

  /** Many fragments, null for those that are not there. */
  loadAll(fragments) {
    return this.#scope().loadAll(fragments)
  }

  async loadInto(scope, fragments) {
    const all = this.#wanted(scope, fragments, false)
    const asked = this.#options.off ? [] : all.filter((p) => p.key && !this.#again(scope, p))
    for (let from = 0; from < asked.length; from += maxKeys) {
      const open = asked.slice(from, from + maxKeys)
      const answers = await this.#lookup(open, true, false, 0).catch((error) => this.#failed(error))
      for (const [i, a] of answers?.items.entries() ?? []) if (a.state === 'fresh') await this.#use(scope, open[i], a, answers, false)
    }
    return all.map((p) => (p.done ? (p.value ?? null) : null))
  }

  /** Stores a fragment; false if a purge of it came since it was last looked up here, or the node was not reached. */
  async store(fragment, value) {
    const scope = this.page()
    const one = wanted(scope, fragment, 0, this.#options)
    one.value = value
    one.direct = true
    one.since = this.#atHand.seen(one.key)
    one.made = { scope, took: 0, until: endOf(one) }
    current()?.state.found.delete(one.key)
    // A lease of its own, so that a purge that comes now is not overtaken.
    const answers = this.#options.off ? undefined : await this.#lookup([one], false, true).catch((error) => this.#failed(error))
    one.lease = answers?.items[0].lease
    return Boolean(one.lease) && (await this.#store([one])) === 1
  }

  /** Drops a fragment on every node. */
  async drop(fragment) {
    current()?.state.found.delete(keyOf(fragment))
    await callJSON({ control: this.#control, token: this.#token, fetch: this.#options.fetch }, 'DELETE', `/v1/fragments/${encodeURIComponent(keyOf(fragment))}${this.#options.query}`)
  }

  /** Waits for the fills that go on behind callers. */
  async settle() {
    while (this.#behind.size > 0) await Promise.allSettled(this.#behind)
  }

  // into finds or fills what goes into a scope; code is what the application fills with.
  async into(scope, fragments, fill, code = fill, renew = false) {
    const all = this.#wanted(scope, fragments, true)
    if (this.#options.check) for (const name of new Set(all.filter((p) => p.key).map((p) => p.name))) this.#warn(this.#check.copied(name, code))
    if (this.#options.off) await this.#sideBySide(all, (fragment) => this.#make(scope, fragment, fill))
    else {
      await this.#sideBySide(all.filter((p) => !p.key), async (p) => {
        await this.#make(scope, p, fill)
        if (!p.error) this.#ended(p, 'alone')
      })
      const first = new Map()
      for (const p of all) if (p.key && !first.has(p.key)) first.set(p.key, p)
      const open = [...first.values()].filter((p) => renew || !this.#again(scope, p))
      for (let from = 0; from < open.length; from += maxKeys) await this.#settleBatch(scope, open.slice(from, from + maxKeys), fill, renew)
      for (const p of all) {
        // each fragment costs one trip
        const same = first.get(p.key)
        if (!p.key || same === p) continue
        Object.assign(p, { value: same.value, made: same.made, error: same.error })
        this.#ended(p, 'reused')
      }
      this.#checkSome(all, fill, code)
    }
    const failed = all.find((p) => p.error)
    if (failed) throw failed.error
    return all.map((p) => p.value)
  }

  // wanted reads many. One that is not in order is filled all the same, and a line says what is wrong.
  #wanted(scope, fragments, needsLife) {
    return fragments.map((f, at) => {
      try {
        return wanted(scope, f, at, this.#options, needsLife)
      } catch (error) {
        this.#warn(error.message)
        return bad(f, at)
      }
    })
  }

  // again uses what this page has of a fragment already; nothing stale goes into a fragment.
  #again(scope, p) {
    const found = scope.state.found.get(p.key)
    if (!found || found.until <= Date.now() || found.purges !== purges.ordered || (found.stale && scope.state.fragment)) return false
    p.value = found.value
    scope.hold(p.key, `${this.namespace}/${p.key}`, found)
    this.#ended(p, 'reused')
    return true
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
      const body = a.coding === 'gzip' ? await gunzip(a.body) : a.body
      const type = a.type ?? ''
      fragment.value = read(fragment, body, type)
      if (a.etag && !a.same) this.#atHand.put(fragment.key, { etag: a.etag, body: body.slice(), type })
    } catch {
      return false // what an older version of the application stored
    }
    const until = a.left > forever / 2 ? Infinity : Date.now() + a.left * 1000
    scope.hold(fragment.key, `${this.namespace}/${fragment.key}`, { value: fragment.value, tags: a.tags ?? [], until, stamp: answers.stamp, stale: a.state === 'stale' })
    this.#ended(fragment, a.state === 'stale' ? 'stale' : waited || a.waited ? 'waited' : 'reused', a.age)
    if (a.lease) this.#fillBehind(fragment, a.lease, fill)
    return true
  }

  #ended(fragment, found, age = 0) {
    this.#counts[{ waited: 'waited', filled: 'filled', alone: 'filled' }[found] ?? 'found']++
    fragment.done = true
    if (fragment.key) Object.assign(fragment.item, { key: `${this.namespace}/${fragment.key}`, found, took: performance.now() - fragment.began, age })
  }

  // make runs a fill, in a scope of its own.
  async #make(scope, fragment, fill) {
    const inner = new Scope(this, { outer: scope, fragment: true, depth: scope.state.depth + 1 })
    const began = performance.now()
    try {
      fragment.value = await inner.within(() => fill(inner, fragment.at))
      if (fragment.value !== null && fragment.value !== undefined) fragment.coder.encode(fragment.value)
    } catch (error) {
      fragment.error = error
      return
    }
    fragment.made = { scope: inner, took: performance.now() - began, until: Math.min(endOf(fragment), inner.state.until) }
  }

  #take(scope, fragment, stamp, found) {
    const inner = fragment.made.scope.state
    scope.hold(fragment.key, `${this.namespace}/${fragment.key}`, { value: fragment.value, tags: [...fragment.tags, ...inner.tags], until: fragment.made.until, stamp: Math.min(stamp, inner.stamp), stale: false })
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
    this.#goOn(async () => {
      await this.#make(new Scope(this, { fragment: true }), again, fill)
      if (again.error) this.#warn('a fragment could not be made anew behind a caller', again.error)
      else this.#counts.filled++
      await this.#store([again])
    })
  }

  #goOn(work) {
    const going = work().catch((error) => this.#warn('what went on behind a caller failed', error))
    this.#behind.add(going)
    going.finally(() => this.#behind.delete(going))
  }

  // checkSome fills a share of what was found, one after the other behind the caller; while many do, no more begin.
  #checkSome(all, fill, code) {
    const some = this.#options.check ? all.filter((p) => p.item.found === 'reused' && !p.error && Math.random() < this.#options.check) : []
    if (some.length === 0 || this.#checking >= maxChecks) return
    this.#checking++
    this.#goOn(async () => {
      try {
        for (const p of some) if (this.#check.due(p.name)) await this.#compare({ ...p, item: {} }, fill, code)
      } finally {
        this.#checking--
      }
    })
  }

  // compare fills what was found. Twice, since what is made differently each time says nothing of the key; and after a
  // moment it is there still, if no purge explains the difference.
  async #compare(p, fill, code) {
    const plain = (value) => (value === null || value === undefined ? '' : new TextDecoder().decode(p.coder.encode(value)))
    const found = plain(p.value)
    const made = []
    for (let i = 0; i < 2; i++) {
      await this.#make(new Scope(this, { fragment: true }), p, fill)
      if (p.error || plain(p.value) === found) return
      made.push(plain(p.value))
    }
    if (made[0] !== made[1]) return
    await new Promise((done) => setTimeout(done, grace))
    const again = { ...p, item: {}, value: undefined }
    const answers = await this.#lookup([again], true, false, 0)
    if (answers.items[0].state !== 'fresh' || !(await this.#use(new Scope(this), again, answers.items[0], answers, false)) || plain(again.value) !== found || !this.#check.first(p.name)) return
    const clash = clashOf(p, code, found, made[0])
    this.#warn(lineOf(clash))
    await callJSON({ control: this.#control, token: this.#token, fetch: this.#options.fetch }, 'POST', `/v1/fragments/clashes${this.#options.query}`, clash)
  }

  // warn says a line, at most once in ten seconds.
  #warn(words, error) {
    if (!words) return
    const line = `gerastic: ${words}${error ? `: ${error.message ?? error}` : ''}`.split('\n')[0]
    if (Date.now() - (this.#warned.get(line) ?? -10_000) < 10_000) return
    if (this.#warned.size >= 100) this.#warned.clear()
    this.#warned.set(line, Date.now())
    this.#options.warn(line)
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
    this.#counts.failed++
    if (Date.now() < this.#restUntil) return
    this.#warn('fragments are made without Gerastic', error)
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
        throw new Error((await answer.json().catch(() => ({}))).detail ?? `it answered ${answer.status}`)
      }
      const items = readable(decode, new Uint8Array(await answer.arrayBuffer()))
      this.#inARow = 0
      return items
    } finally {
      clearTimeout(timer)
    }
  }

  async #lookup(open, fresh, renew, lease = this.#options.lease) {
    if (Date.now() < this.#restUntil) throw new Error('Gerastic did not answer several times, and is done without for a moment')
    const wait = lease > 0 ? this.#options.wait : 0
    const had = open.map((p) => this.#atHand.get(p.key))
    const ask = { keys: open.map((p) => p.key), have: had.map((kept) => kept?.etag ?? ''), wait, lease, fresh: fresh || undefined, renew: renew || undefined }
    const [head, ...found] = await this.#call('lookup', encode(ask), wait)
    const items = []
    for (const item of found) {
      if (!item?.same) items[item?.at] = item
      // of several, whose bodies are at hand
      else item.same.forEach((at, n) => (items[at] = { state: 'fresh', age: item.ages[n], left: item.lives[n], tags: item.tagsets?.[n], same: true, body: had[at].body, type: had[at].type }))
    }
    if (!head || items.length !== open.length || items.includes(undefined)) throw new Error('its answer cannot be read')
    this.namespace = head.namespace
    if (!renew) this.#atHand.saw(ask.keys, head.stamp)
    return { stamp: head.stamp, items }
  }

  async #store(fragments) {
    const offers = await Promise.all(fragments.map(offer))
    let stored = 0
    try {
      for (const [i, result] of (await this.#call('store', encode(...offers), 3 * this.#options.timeout)).entries()) {
        if (result?.stored) stored++
        else if (!fragments[i]?.error && result?.refused && result.refused !== 'overtaken') this.#warn(`the fragment ${fragments[i]?.name} cannot be stored`, result.why)
      }
    } catch (error) {
      this.#failed(error)
    }
    return stored
  }
}

function readable(decode, bytes) {
  try {
    return decode(bytes)
  } catch {
    throw new Error('its answer cannot be read')
  }
}
