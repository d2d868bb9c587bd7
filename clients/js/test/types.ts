// Checked by make lint, not run: the types say what the client does.
import { Fragments, type Found, type Scope, forever, json, keyOf, type Encoder } from '../gerastic.js'

interface Vessel { name: string }
const vessels: Encoder<Vessel> = json
const fragments = new Fragments({ control: 'http://127.0.0.1:8490', token: 'none' })

export async function page(scope: Scope): Promise<string> {
  const vessel: Vessel = await scope.loadOrFill({ name: 'vessel', parts: [3, 'tholm', true, new Date()], lifetime: forever, encoder: vessels }, async (inner) => {
    inner.tag('vessel:3')
    return { name: 'Petrel Dawn' }
  })
  const rows: string[] = await fragments.loadOrFillAll([{ name: 'row', lifetime: 60 }], (_, index) => `row ${index}`)
  const found: Found | undefined = scope.report()[0]?.found
  // @ts-expect-error an object tells nothing apart
  keyOf({ name: 'row', parts: [{}] })
  const thing = { fragmentKey: () => ({ name: 'row', parts: [1, ['a']] }), name: 'Petrel Dawn' }
  rows.push(await fragments.of(thing, (one) => one.name))
  // @ts-expect-error a thing says its key
  await fragments.of({}, () => 'x')
  return [vessel.name, ...rows, found, scope.headers()['Cache-Groups']].join()
}
