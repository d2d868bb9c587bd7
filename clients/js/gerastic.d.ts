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

export interface Fragment<T = string> {
  /** What fragments of its kind share; figures are kept by name. */
  name: string
  /** Tell fragments of one name apart; typed and ordered. */
  parts?: Part[]
  /** The state of what it is made from, such as a changed-at time. */
  version?: Part
  /** Seconds that it is fresh; cut to the shortest life of the fragments in it. */
  lifetime: number
  /** Seconds beyond that in which it may be used while it is filled anew. */
  stale?: number
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
  /** Waits for the fills that go on behind callers. */
  settle(): Promise<void>
}
