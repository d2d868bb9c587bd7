// The columns of a DataTable: what stands in a cell, and what its rows are sorted by.

export interface Column<Row> {
  key: string
  title: string
  /** What stands in the cell. A slot of the table that is named for the key draws more than text. */
  text?: (row: Row) => string | number
  /** What rows are sorted by; a column without it is not sorted. */
  by?: (row: Row) => Sortable
  /** What is said of the cell on hover. */
  tip?: (row: Row) => string
  /** line: mono, on one line that is cut where the column ends. */
  look?: 'number' | 'mono' | 'moment' | 'line'
  /** In CSS pixels. */
  width?: number
}

type Sortable = number | string | null | undefined

/** Orders two values; what is not known comes before everything that is. */
export function compare(a: Sortable, b: Sortable): number {
  if (a == null || b == null) return Number(a != null) - Number(b != null)
  if (typeof a === 'number' && typeof b === 'number') return a - b
  return String(a).localeCompare(String(b), 'en', { numeric: true })
}

/** A column of numbers: sorted by the number, written by its format. */
export function figure<Row, N extends number | null | undefined>(key: string, title: string, by: (row: Row) => N, write: (n: N) => string): Column<Row> {
  return { key, title, by, text: (row) => write(by(row)), look: 'number' }
}
