// Does what the conformance suite says, in lines of JSON; see clients/conformance.
import { createServer } from 'node:http'
import { createInterface } from 'node:readline'
import { decode, encode } from '../cbor.js'
import { Gerastic, keyOf, quoted, seconds } from '../gerastic.js'
import { fetchPages, pages } from '../web.js'

const read = (v) => {
  if (Array.isArray(v)) return v.map(read)
  if (v === null || typeof v !== 'object') return v
  if (v.time) return new Date(v.time)
  if (v.hex !== undefined) return Uint8Array.from(Buffer.from(v.hex, 'hex'))
  if (v.long) return 'x'.repeat(v.long)
  if (v.map) return Object.fromEntries(v.map.map(([name, value]) => [name, read(value)]))
  return []
}
const shown = (v) => {
  if (v instanceof Uint8Array) return { hex: Buffer.from(v).toString('hex') }
  if (Array.isArray(v)) return v.map(shown)
  return v !== null && typeof v === 'object' ? { map: Object.entries(v).map(([name, value]) => [name, shown(value)]) } : v
}
const item = (given) => ({ ...given, ...(given.parts && { parts: read(given.parts) }), ...(given.version !== undefined && { version: read(given.version) }) })

const gerastic = new Gerastic({ control: process.argv[2], token: process.argv[3] })
const warned = []
const warn = (line) => warned.push(line.replace(/^gerastic: /, ''))
const fragments = gerastic.fragments({ wait: '2s', warn })
const checked = gerastic.fragments({ check: 1, warn })
let filled = 0

const middleware = pages(fragments)
const application = createServer((request, response) => middleware(request, response, async () => {
  if (request.page.unchanged(null, { modified: new Date(Date.UTC(2026, 4, 17, 6)), parts: [1] })) return response.end()
  request.page.did({ queries: 3 })
  response.setHeader('Content-Type', 'text/html')
  response.end(await fragments.loadOrFill({ name: 'web', lifetime: '1h', tags: ['web'] }, () => 'body'))
}))
const fetched = fetchPages(fragments, async (_, page) => {
  if (page.unchanged(null, { modified: new Date(Date.UTC(2026, 4, 17, 6)), parts: [1] })) return new Response('')
  page.did({ queries: 3 })
  return new Response(await page.loadOrFill({ name: 'web', lifetime: '1h', tags: ['web'] }, () => 'body'), { headers: { 'Content-Type': 'text/html' } })
})

// Both kinds of middleware answer the same.
async function request(headers) {
  await new Promise((begun) => application.listening ? begun() : application.listen(0, '127.0.0.1', begun))
  application.unref()
  const url = `http://127.0.0.1:${application.address().port}/`
  const [one, other] = [await fetch(url, { headers: { ...headers, Connection: 'close' } }), await fetched(new Request(url, { headers }))]
  if (one.status !== other.status || one.headers.get('etag') !== other.headers.get('etag') || one.headers.get('cache-groups') !== other.headers.get('cache-groups')) throw new Error('the two kinds of middleware differ')
  return { status: one.status, headers: Object.fromEntries(one.headers), body: await one.text() }
}

async function renderPage({ rows, edition }) {
  const row = new Function('edition', `return ({ row }, t) => t.html\`<li>\${row.id}${edition}</li>\``)(edition)
  const all = fragments.templates({ page: (values, t) => t.html`${t.fragments('row', values.rows, { each: 'row', parts: ['id'], lifetime: '1h', tags: ['row:{id}'] })}`, row })
  const before = fragments.counts().filled
  const html = await all.render('page', { rows: Array.from({ length: rows }, (_, id) => ({ id })) })
  return { html, filled: fragments.counts().filled - before }
}

// bench times calls, in microseconds each: a bare exchange of the same bytes, one fragment found, a hundred in one trip,
// and one by one.
async function bench({ control, token, rounds }) {
  const items = Array.from({ length: 100 }, (_, i) => ({ name: 'bench', parts: [i], lifetime: '1h' }))
  await fragments.loadOrFillAll(items, () => 'x'.repeat(400))
  const body = encode({ keys: ['bench(0)'], have: [''], wait: 2000, lease: 30000, details: true })
  const headers = { Authorization: `Bearer ${token}`, 'Content-Type': 'application/cbor-seq' }
  const calls = {
    bare: async () => (await fetch(`${control}/v1/fragments/lookup`, { method: 'POST', body, headers })).arrayBuffer(),
    one: () => fragments.loadOrFill(items[0], () => ''),
    hundred: () => fragments.loadOrFillAll(items, () => ''),
    each: async () => {
      for (const one of items) await fragments.loadOrFill(one, () => '')
    },
  }
  const took = Object.fromEntries(Object.keys(calls).map((name) => [name, []]))
  for (let round = 0; round < rounds; round++) {
    for (const [name, call] of Object.entries(calls)) {
      const n = name === 'each' ? 1 : 50
      const began = performance.now()
      for (let i = 0; i < n; i++) await call()
      took[name].push(((performance.now() - began) / n) * 1000)
    }
  }
  return Object.fromEntries(Object.entries(took).map(([name, all]) => [name, all.sort((a, b) => a - b)[Math.floor(all.length / 2)]]))
}

async function perform(ask) {
  const before = filled
  switch (ask.do) {
    case 'key': return { key: keyOf(item(ask)) }
    case 'seconds': return { seconds: seconds(ask.time) }
    case 'encode': return { hex: Buffer.from(encode(read(ask.value))).toString('hex') }
    case 'decode': return { value: shown(decode(Uint8Array.from(Buffer.from(ask.hex, 'hex')))[0]) }
    case 'quoted': return { field: quoted(ask.text) }
    case 'unchanged': {
      const page = fragments.page()
      return { unchanged: page.unchanged(ask.headers ?? {}, { modified: ask.modified && new Date(ask.modified), parts: read(ask.parts ?? []) }), headers: page.headers() }
    }
    case 'fill': {
      const page = fragments.page()
      const value = await page.loadOrFill(item(ask.item), async (scope) => {
        const inner = ask.inner ? await scope.loadOrFill(item(ask.inner), () => 'inner') : ''
        filled++
        await new Promise((done) => setTimeout(done, ask.sleep_ms ?? 0))
        if (ask.fail) throw new Error(ask.fail)
        return ask.body + inner
      })
      return { value, filled: filled - before, headers: page.headers() }
    }
    case 'many': {
      const items = ask.items.map(item)
      const values = await fragments.loadOrFillAll(items, (_, i) => {
        filled++
        return items[i].name + items[i].parts[0]
      })
      return { values, filled: filled - before }
    }
    case 'thing': return { value: await fragments.of({ fragmentKey: () => item(ask.item), fragmentTags: () => ask.tags }, (thing) => `of ${thing.fragmentTags()[0]}`) }
    case 'twice': {
      const page = fragments.page()
      await page.loadOrFill(item(ask.item), () => 'once')
      if (ask.purge) await gerastic.purge({ tags: ['other'] })
      return { value: await page.loadOrFill(item(ask.item), () => 'twice'), report: page.headers()['Server-Timing'] }
    }
    case 'nothing': return { value: await fragments.loadOrFill(item(ask.item), () => null) }
    case 'clash':
      for (const language of ask.bodies) await checked.loadOrFill(item(ask.item), () => `in ${language}`)
      return (await checked.settle()) ?? {}
    case 'copied':
      await checked.loadOrFill({ name: 'copied', lifetime: '1h' }, () => 'one' + 'text')
      await checked.loadOrFill({ name: 'copied', parts: [2], lifetime: '1h' }, () => 'another' + 'text')
      await checked.loadOrFill({ name: 'same', parts: [1], lifetime: '1h' }, () => 'same' + String(1))
      await checked.loadOrFill({ name: 'same', parts: [2], lifetime: '1h' }, () => 'same' + String(2))
      return {}
    case 'work': return { value: await fragments.loadOrFill(item(ask.item), (scope) => (scope.did({ queries: 2, rows: 10 }), 'worked')) }
    case 'request': return request(ask.headers ?? {})
    case 'page': return renderPage(ask)
    case 'bench': return bench(ask)
    case 'warned': return { lines: warned.splice(0) }
    case 'load': return { value: await fragments.load(item(ask.item)) }
    case 'store': return { stored: await fragments.store(item(ask.item), ask.body) }
    case 'drop': return (await fragments.drop(item(ask.item))) ?? {}
    case 'purge': return (await gerastic.purge(ask.order)) && {}
    case 'settle': return (await fragments.settle()) ?? {}
    default: return { counts: fragments.counts() }
  }
}

for await (const line of createInterface({ input: process.stdin })) {
  const answer = await perform(JSON.parse(line)).catch((error) => ({ error: error.message }))
  console.log(JSON.stringify(answer))
}
