import { expect, test } from 'vitest'
import type { RatioReport } from '../src/api'
import { newest } from '../src/live'
import { compare } from '../src/parts/columns'
import { secondsIn, steps } from '../src/parts/steps'
import { pattern, request } from '../src/purging'
import { readRange, secondsOf } from '../src/range'

test.each([
  ['45m', '45m', 2700], [' 3 h ', '3h', 10800], ['2d', '2d', 172800], ['15 min', '15m', 900], ['90d', '90d', 7776000],
])('%s is a range', (text, range, seconds) => {
  expect(readRange(text)).toBe(range)
  expect(secondsOf(range)).toBe(seconds)
})
test.each(['', '0m', '91d', '-1h', '1.5h', '5s', 'yesterday'])('%s is none', (text) => expect(readRange(text)).toBeUndefined())

test('a step without figures is a gap', () => {
  const at = (s: number) => new Date(Date.UTC(2026, 10, 27) + s * 1000).toISOString()
  const rows = [0, 60, 240, 300].map((s) => ({ at: at(s) }))
  const report = { step_s: 60, since: at(30), until: at(310), rows } as RatioReport
  expect(steps(report).map(([ms, row]) => [(ms - Date.parse(at(0))) / 1000, row !== undefined])).toEqual([[0, true], [60, true], [120, false], [240, true], [300, true]])
  expect(rows.map((r) => secondsIn(report, r.at))).toEqual([30, 60, 60, 10])
  expect(steps({ ...report, rows: [] })).toEqual([])
})

test('rows are ordered by what they mean', () => {
  expect([10, null, 9, undefined].sort(compare)).toEqual([null, 9, 10, undefined])
  expect(['vessel:10', 'vessel:9', 'port:a'].sort(compare)).toEqual(['port:a', 'vessel:9', 'vessel:10'])
})

test('a star stands for anything, and nothing else does', () => {
  expect(['port:', 'port:tholm', 'export:x', 'port:a\nb'].map((t) => pattern('port:*').test(t))).toEqual([true, true, false, true])
  expect([pattern('a.b*').test('aXb'), pattern('*').test(''), pattern('a*c').test('abd')]).toEqual([false, true, false])
})

test('an order names what was chosen, and tells why only when it is carried out', () => {
  const draft = { kind: 'tags' as const, names: ['a'], together: true, mode: 'stale' as const, reason: 'paint' }
  expect(request(draft, true)).toEqual({ tags: ['a'], mode: 'stale', preview: true })
  expect(request({ ...draft, names: ['a', 'b'] }, false)).toEqual({ tags: ['a', 'b'], together: true, mode: 'stale', preview: false, reason: 'paint' })
  expect(request({ ...draft, kind: 'all' }, true)).toEqual({ all: true, mode: 'stale', preview: true })
})

test('an answer to an older question is never taken', async () => {
  const answers: ((v: string) => void)[] = []
  const taken: unknown[] = []
  const figures = newest(() => new Promise<string>((done) => answers.push(done)), (a) => taken.push(a), (e) => taken.push(e))
  const first = figures.ask()
  const second = figures.ask()
  answers[0]('of the old range')
  await expect.poll(() => answers.length).toBe(2)
  expect(taken).toEqual([])
  answers[1]('of the new one')
  await Promise.all([first, second])
  expect([taken, figures.waiting()]).toEqual([['of the new one'], false])
})

test('what fails is told, and asked again', async () => {
  const told: unknown[] = []
  let times = 0
  const figures = newest(async () => { if (++times === 1) throw new Error('no answer'); return times }, (a) => told.push(a), (e) => told.push((e as Error).message))
  await figures.ask()
  await figures.ask()
  expect(told).toEqual(['no answer', 2])
})
