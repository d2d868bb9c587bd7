/** A value that tells fragments of one name apart. */
export type Part = string | number | bigint | boolean | null | Date | Uint8Array

/** Turns values into what is stored, and back. */
export interface Encoder<T> {
  type: string
  encode(value: T): Uint8Array
  /** Throws on what it cannot read: the fragment is then made anew. */
  decode(bytes: Uint8Array): T
}

/** The default: text, of HTML. */
export const text: Encoder<string>
export const bytes: Encoder<Uint8Array>
export const json: Encoder<any>

/** The lifetime, in seconds, of what only a purge or a new version ends. */
export const forever: number

/** A length of time: seconds, or "90s", "15m", "1h", "1d", "forever". */
export type Time = number | string

/** Reads a length of time in seconds; throws a TypeError that says what is wanted. */
export function seconds(time: Time, what?: string): number

/** A node: it gives the fragments of an application, and takes purges and changes. */
export class Gerastic {
  constructor(options: { control: string; token: string; namespace?: string; fetch?: typeof globalThis.fetch })
  fragments(options?: { timeout?: Time; wait?: Time; lease?: Time; parallel?: number; off?: boolean; warn?: (...args: unknown[]) => void }): Fragments
  /** Purges on every node. If it throws, nothing is known to be purged. */
  purge(order: { tags?: string[]; urls?: (string | { url: string; any_query?: boolean })[]; below?: string[]; routes?: string[]; hosts?: string[]; all?: boolean; mode?: 'drop' | 'stale'; reason?: string }): Promise<unknown>
  /** Tells of something that changed, after the commit; before null is a create, after null a delete. */
  changed(kind: string, before: unknown, after: unknown): Promise<unknown>
}

export interface Fragment<T = string> {
  /** What fragments of its kind share; figures are kept by name. */
  name: string
  /** Tell fragments of one name apart; typed and ordered. */
  parts?: Part[]
  /** The state of what it is made from, such as a changed-at time. */
  version?: Part
  /** How long it is fresh; cut to the shortest life of the fragments in it. */
  lifetime: Time
  /** How long beyond that it may be used while it is filled anew. */
  stale?: Time
  /** What it shows; the tags of the fragments in it come on top. */
  tags?: string[]
  /** Media type; the encoder's if left out. */
  type?: string
  encoder?: Encoder<T>
}

/** The text that the service knows a fragment by: name("part",2)@"version". */
export function keyOf(fragment: Pick<Fragment, 'name' | 'parts' | 'version'>): string

export type Found = 'reused' | 'stale' | 'waited' | 'filled' | 'alone'

export interface ReportItem {
  /** namespace/key */
  key: string
  found: Found
  /** Milliseconds until it was there. */
  took: number
  /** Seconds since what was reused was stored. */
  age: number
  /** 1 for those of the page itself, 2 for those in them. */
  depth: number
}

/**
 * What goes into a page, or into a fragment while it is filled. Whatever a fill asks for
 * through the scope that it is given becomes part of the fragment: its tags, and the shortest
 * of the lives.
 */
export class Scope {
  tag(...tags: string[]): void
  loadOrFill<T = string>(fragment: Fragment<T>, fill: (scope: Scope) => T | Promise<T>): Promise<T>
  loadOrFillAll<T = string>(fragments: Fragment<T>[], fill: (scope: Scope, index: number) => T | Promise<T>): Promise<T[]>
  report(): ReportItem[]
  /**
   * Reports whether the visitor has the page already, by when what it shows changed and what else it depends
   * on. Then the answer is 304 with headers().
   */
  unchanged(requestHeaders: Headers | Record<string, string>, by: { modified?: Date; parts?: Part[] }): boolean
  /** Cache-Groups, Gerastic-Life, Gerastic-Parts and Server-Timing of a page, as they apply. */
  headers(): Record<string, string>
}

export interface Options {
  /** Address of the control side: http://127.0.0.1:8490 */
  control: string
  /** A token with the right fragments. */
  token: string
  /** Only needed with a token that is for no application. */
  namespace?: string
  /** Milliseconds that Gerastic may take to answer before it is done without; 250. */
  timeout?: number
  /** Milliseconds to wait for a fragment that somebody else fills; 5000. */
  wait?: number
  /** Milliseconds that a fill may take before somebody else may try; 30000. */
  lease?: number
  /** Fills that loadOrFillAll runs at a time; 8. */
  parallel?: number
  /** Do without the node: everything is filled; GERASTIC_FRAGMENTS=off says so, too. */
  off?: boolean
  fetch?: typeof globalThis.fetch
  warn?: (...args: unknown[]) => void
}

/** The fragments of an application. Make one for its life. */
export class Fragments {
  constructor(options: Options)
  namespace: string
  counts: Record<Found | 'unreached' | 'refused', number>
  /** Begins a page, which collects tags, lives and a report. */
  page(): Scope
  loadOrFill<T = string>(fragment: Fragment<T>, fill: (scope: Scope) => T | Promise<T>): Promise<T>
  loadOrFillAll<T = string>(fragments: Fragment<T>[], fill: (scope: Scope, index: number) => T | Promise<T>): Promise<T[]>
  /** A fragment, or null if it is not there, or stale. */
  load<T = string>(fragment: Omit<Fragment<T>, 'lifetime'>): Promise<T | null>
  loadAll<T = string>(fragments: Omit<Fragment<T>, 'lifetime'>[]): Promise<(T | null)[]>
  /** Stores a fragment; false if a purge came between, or the node was not reached. */
  store<T = string>(fragment: Fragment<T>, value: T): Promise<boolean>
  /** Drops a fragment on every node. */
  drop(fragment: Pick<Fragment, 'name' | 'parts' | 'version'>): Promise<void>
  /** Waits for the fills that go on behind callers. */
  settle(): Promise<void>
}
