// How figures are written: units always, at most three significant digits, thousands
// apart, ratios in per cent with one decimal.

export const none = '–'

const whole = new Intl.NumberFormat('en', { useGrouping: true, maximumFractionDigits: 0 })

export function count(n: number): string {
  return whole.format(n).replaceAll(',', '\u2009')
}

function significant(v: number): string {
  if (v >= 99.95) return v.toFixed(0)
  if (v >= 9.995) return v.toFixed(1)
  return v.toFixed(2)
}

export function bytes(n: number): string {
  if (n >= 2 ** 30) return `${significant(n / 2 ** 30)} GiB`
  if (n >= 2 ** 20) return `${significant(n / 2 ** 20)} MiB`
  if (n >= 2 ** 10) return `${significant(n / 2 ** 10)} KiB`
  return `${n} B`
}

export function time(ms: number | null | undefined): string {
  if (ms === null || ms === undefined) return none
  if (ms >= 3_597_000) return `${significant(ms / 3_600_000)} h`
  if (ms >= 59_950) return `${significant(ms / 60_000)} min`
  if (ms >= 999.5) return `${significant(ms / 1000)} s`
  if (ms >= 1 || ms === 0) return `${significant(ms)} ms`
  return `${significant(ms * 1000)} µs`
}

export function percent(ratio: number | null | undefined): string {
  return ratio === null || ratio === undefined ? none : `${(ratio * 100).toFixed(1)} %`
}

/** How long ago a time is, or how long it lasts, in words. */
export function ago(at: string | Date): string {
  return `${time(Math.max(0, Math.round((Date.now() - new Date(at).getTime()) / 1000) * 1000))} ago`
}

export function plural(n: number, one: string, many: string): string {
  return n === 1 ? `1 ${one}` : `${count(n)} ${many}`
}

export function clock(at: string | Date): string {
  return new Date(at).toLocaleTimeString('en-GB')
}

/** A time of today as a clock shows it, others with their date. */
export function moment(at: string | Date): string {
  const d = new Date(at)
  if (d.toDateString() === new Date().toDateString()) return clock(d)
  return `${d.toLocaleDateString('sv-SE')} ${d.toLocaleTimeString('en-GB')}`
}

export function utc(at: string | Date): string {
  return new Date(at).toISOString().replace('T', ' ').replace(/\.\d+Z$/, ' UTC')
}

const dayAndMonth = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })

/** A tick of a time axis: midnight is written as its day. */
export function tick(at: number): string {
  const d = new Date(at)
  return d.getHours() === 0 && d.getMinutes() === 0 ? dayAndMonth.format(d) : d.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })
}
