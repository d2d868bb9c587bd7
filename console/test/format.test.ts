import { describe, expect, test } from 'vitest'
import { bytes, count, none, percent, plural, tick, time } from '../src/format'

test.each([
  [0, '0.00 ms'], [0.0123, '12.3 µs'], [0.999, '999 µs'], [1, '1.00 ms'], [12.34, '12.3 ms'], [999.4, '999 ms'],
  [9.996, '10.0 ms'], [99.97, '100 ms'], [999.6, '1.00 s'], [1000, '1.00 s'], [59_940, '59.9 s'], [59_999, '1.00 min'], [60_000, '1.00 min'], [3_600_000, '1.00 h'], [null, none], [undefined, none],
])('%s ms is written %s', (ms, text) => expect(time(ms)).toBe(text))

test.each([
  [0, '0 B'], [1023, '1023 B'], [1024, '1.00 KiB'], [1536 * 1024, '1.50 MiB'], [200 * 2 ** 30, '200 GiB'],
])('%s bytes are written %s', (n, text) => expect(bytes(n)).toBe(text))

test('ratios and counts', () => {
  expect([percent(0.12345), percent(1), percent(0), percent(null)]).toEqual(['12.3 %', '100.0 %', '0.0 %', none])
  expect([count(999), count(1_234_567)]).toEqual(['999', '1\u2009234\u2009567'])
  expect([plural(1, 'entry', 'entries'), plural(0, 'entry', 'entries'), plural(1200, 'entry', 'entries')]).toEqual(['1 entry', '0 entries', '1\u2009200 entries'])
})

describe('a tick', () => {
  test('at midnight is its day', () => expect(tick(new Date(2026, 10, 27).getTime())).toBe('27 Nov'))
  test('else is a time', () => {
    expect(tick(new Date(2026, 10, 27, 0, 15).getTime())).toBe('00:15')
    expect(tick(new Date(2026, 10, 27, 18).getTime())).toBe('18:00')
  })
})
