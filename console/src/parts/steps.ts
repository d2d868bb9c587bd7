// The steps of a report over time.
import type { RatioReport, RatioRow } from '../api'

const width = (report: RatioReport) => (report.step_s ?? 60) * 1000

/** The times of the rows, in ms since the epoch, with one step without a row wherever nothing was counted. */
export function steps(report: RatioReport): [number, RatioRow | undefined][] {
  const all: [number, RatioRow | undefined][] = []
  for (const row of report.rows) {
    const at = Date.parse(row.at!)
    const last = all.at(-1)
    if (last && at - last[0] > 1.5 * width(report)) all.push([last[0] + width(report), undefined])
    all.push([at, row])
  }
  return all
}

/** How many seconds of a step lie within the report: the first and the last are cut. */
export function secondsIn(report: RatioReport, at: string): number {
  const begin = Math.max(Date.parse(at), Date.parse(report.since))
  const end = Math.min(Date.parse(at) + width(report), Date.parse(report.until))
  return Math.max(1, (end - begin) / 1000)
}
