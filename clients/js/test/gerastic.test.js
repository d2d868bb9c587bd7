// Run by go test ./test, which starts the service and says where it is.
import assert from 'node:assert/strict'
import { readFileSync } from 'node:fs'
import { test } from 'node:test'

import { decode, encode } from '../cbor.js'
import { Fragments, forever, json, keyOf } from '../gerastic.js'

const { GERASTIC_CONTROL: control, GERASTIC_TOKEN: token, GERASTIC_ADMIN: admin } = process.env
const patience = { control, token, timeout: 20000, wait: 20000, warn: () => {} }
const started = Date.now() // keeps runs apart
const again = () => assert.fail('it was there, and is made again')
const sleep = (ms) => new Promise((done) => setTimeout(done, ms))

async function purge(body) {
  const answer = await fetch(`${control}/v1/purges`, { method: 'POST', headers: { Authorization: `Bearer ${admin}`, 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
  assert.equal(answer.status, 200)
  return answer.json()
}

test('keys are the same in every language', () => {
  for (const row of JSON.parse(readFileSync(new URL('keys.json', import.meta.url)))) {
    const version = row.versionTime ? new Date(row.versionTime) : row.versionBytes ? Uint8Array.from(row.versionBytes) : row.version
    assert.equal(keyOf({ name: row.name, parts: row.parts, version }), row.key)
  }
  for (const bad of [{ name: '' }, { name: 'a/b' }, { name: 'a', parts: [NaN] }, { name: 'a', parts: [{}] }, { name: 'a', parts: ['\ud800'] }, { name: 'a', parts: ['x'.repeat(2000)] }]) assert.throws(() => keyOf(bad), TypeError)
})

test('what is written in CBOR is read', () => {
  const values = [{ a: [1, -1, 24, 70000, 5e9, 1.5, -0.25], b: 'é😀', c: true, d: Uint8Array.of(0, 255), e: 'x'.repeat(300) }, 'last']
  assert.deepEqual(decode(encode(...values)), values)
  for (const cut of [1, 5, 20]) assert.throws(() => decode(encode(...values).subarray(0, cut)), RangeError)
})

test('load or fill', async () => {
  const s = new Fragments(patience)
  const card = { name: 'card', parts: [started, 3], lifetime: 60, tags: [`js:${started}`] }
  assert.equal(await s.loadOrFill(card, () => 'Petrel Dawn é'), 'Petrel Dawn é')
  assert.equal(await s.loadOrFill(card, again), 'Petrel Dawn é')
  await assert.rejects(s.loadOrFill({ ...card, version: 2 }, () => Promise.reject(new Error('no database'))), /no database/)
  assert.equal(await s.loadOrFill({ ...card, version: 2 }, () => 'mended'), 'mended')
  assert.equal((await purge({ tags: card.tags })).matched.entries, 2)
  assert.equal(await s.loadOrFill(card, () => 'Brackwing'), 'Brackwing')
  const vessel = { name: 'vessel', parts: [started], lifetime: forever, encoder: json }
  assert.deepEqual(await s.loadOrFill(vessel, () => ({ decks: 5 })), { decks: 5 })
  assert.deepEqual(await s.loadOrFill(vessel, again), { decks: 5 })
  const large = 'Ostrel Isles Ferries. '.repeat(10000)
  await s.loadOrFill({ name: 'large', parts: [started], lifetime: 60 }, () => large)
  assert.equal(await s.loadOrFill({ name: 'large', parts: [started], lifetime: 60 }, again), large)
  for (const again of [1, 2]) assert.deepEqual(await s.loadOrFill({ name: 'bytes', parts: [started], lifetime: 60 }, () => Uint8Array.of(0, 255, again)), Uint8Array.of(0, 255, 1), 'bytes are found as bytes')
  assert.equal(await s.loadOrFill({ name: 'x' }, () => 'made'), 'made', 'what is not in order is made all the same')
  assert.equal(s.namespace, 'js')
})

test('a wrong token is said once', async () => {
  const said = []
  const s = new Fragments({ ...patience, token: 'guess', warn: (...what) => said.push(what.join(' ')) })
  for (let i = 0; i < 4; i++) assert.equal(await s.loadOrFill({ name: 'wrong', parts: [started, i], lifetime: 60 }, () => 'made'), 'made')
  assert.equal(said.length, 1)
  assert.match(said[0], /token/)
})

test('what a purge overtook is not stored', async () => {
  const s = new Fragments(patience)
  const board = { name: 'board', parts: [started, 'purged'], lifetime: 60, tags: [`js:board:${started}`] }
  await s.loadOrFill(board, async () => {
    await purge({ tags: board.tags })
    return 'old'
  })
  assert.equal(await s.loadOrFill(board, () => 'new'), 'new')
})

test('many at once, and what is nested in them', async () => {
  const s = new Fragments(patience)
  let cards = 0
  const row = (n) => ({ name: 'row', parts: [started, n], lifetime: 30, tags: [`js:row:${n}`] })
  const fill = (scope, i) => scope.loadOrFill({ name: 'shared', parts: [started], lifetime: 60, tags: ['js:shared'] }, () => (cards++, 'card')).then((card) => `row ${i} ${card}`)
  const rows = Array.from({ length: 1200 }, (_, n) => row(n))
  const page = s.page()
  assert.equal((await page.loadOrFillAll(rows, fill))[1199], 'row 1199 card')
  assert.equal(cards, 1, 'one fill for all who need it')
  const next = s.page()
  next.tag('js:page')
  await next.loadOrFillAll(rows.slice(0, 3), again)
  const h = next.headers()
  assert.equal(h['Cache-Groups'], '"js:page", "js:row:0", "js:shared", "js:row:1", "js:row:2"')
  assert.match(h['Gerastic-Life'], /^([12]?\d|30)\.\d{3};as-of=\d+$/)
  assert.match(h['Gerastic-Parts'], /^"js\/row\(\d+,0\)";found=reused;depth=1;took=[\d.]+;age=\d+, /)
  assert.match(h['Server-Timing'], /^fragments;desc="3 reused";dur=/)
})

test('one fills for all processes, and stale is served meanwhile', async () => {
  const two = [new Fragments(patience), new Fragments(patience)]
  const board = { name: 'board', parts: [started], lifetime: 60, stale: 60, tags: [`js:stale:${started}`] }
  let fills = 0
  const all = await Promise.all(Array.from({ length: 20 }, (_, i) => two[i % 2].loadOrFill(board, async () => (fills++, await sleep(50), 'first'))))
  assert.deepEqual(new Set(all), new Set(['first']))
  assert.equal(fills, 1)
  await purge({ tags: board.tags, mode: 'stale' })
  assert.equal(await two[0].loadOrFill(board, () => 'second'), 'first')
  await two[0].settle()
  assert.equal(await two[1].loadOrFill(board, again), 'second')
})

test('without Gerastic the page works', async () => {
  const s = new Fragments({ control: 'http://127.0.0.1:1', token: 'none', warn: () => {} })
  let now = 0
  let most = 0
  const fill = async () => {
    most = Math.max(most, ++now)
    await sleep(5)
    now--
    return 'made'
  }
  for (let i = 0; i < 8; i++) assert.equal(await s.loadOrFill({ name: 'board', lifetime: 60 }, fill), 'made')
  await Promise.all(Array.from({ length: 20 }, () => s.loadOrFill({ name: 'board', lifetime: 60 }, fill)))
  assert.equal(most, 1, 'one at a time')
  assert.deepEqual(s.counts(), { found: 0, filled: 28, waited: 0, failed: 28 })
})
