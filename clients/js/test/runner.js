// Does what the conformance suite says, in lines of JSON; see clients/conformance.
import { createInterface } from 'node:readline'
import { decode, encode } from '../cbor.js'
import { Gerastic, keyOf, quoted, seconds } from '../gerastic.js'

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
const fragments = gerastic.fragments({ wait: '2s', warn: () => {} })
let filled = 0

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
