/** A value that tells fragments of one name apart. */
export type Part = string | number | bigint | boolean | null | Date | Uint8Array | Part[]

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
  /** The parts of pages that the application makes; timeout, wait and lease may be "250ms". Make one for its life. */
  fragments(options?: Omit<Partial<Options>, 'timeout' | 'wait' | 'lease'> & { timeout?: Time; wait?: Time; lease?: Time }): Fragments
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
  /** How long it is fresh; cut to the shortest life of the fragments in it. The options may have one for all. */
  lifetime?: Time
  /** How long it is known that a fill returned nothing (null); left out, that is not stored. */
  nothing?: Time
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

/** A thing that says what fragment shows it. */
export interface Keyed {
  fragmentKey(): string | Pick<Fragment, 'name' | 'parts' | 'version' | 'lifetime'> | [name: string, parts?: Part[], version?: Part, lifetime?: Time]
  fragmentTags?(): Iterable<string>
}

type Fill<T> = (scope: Scope) => T | null | Promise<T | null>

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
  /** Counts what it took to make this: did({ queries: 1, rows: 20 }). */
  did(amounts: Record<string, number>): void
  loadOrFill<T = string>(fragment: Fragment<T>, fill: Fill<T>): Promise<T>
  loadOrFillAll<T = string>(fragments: Fragment<T>[], fill: (scope: Scope, index: number) => T | null | Promise<T | null>): Promise<T[]>
  of<K extends Keyed>(thing: K, fill: (thing: K, scope: Scope) => string | Promise<string>): Promise<string>
  load<T = string>(fragment: Fragment<T>): Promise<T | null>
  loadAll<T = string>(fragments: Fragment<T>[]): Promise<(T | null)[]>
  /** Runs what makes the page; in Node, what it asks for goes into it wherever it is asked for. */
  within<T>(make: () => T): T
  /** The visitor has the page already, as unchanged said. */
  notModified: boolean
  report(): ReportItem[]
  /**
   * Reports whether the visitor has the page already, by when what it shows changed and what else it depends
   * on. Then the answer is 304 with headers(). Behind the middleware of gerastic/web the headers may be null.
   */
  unchanged(requestHeaders: Headers | Record<string, string | string[] | undefined> | null, by: { modified?: Date; parts?: Part[] }): boolean
  /** Cache-Groups, Gerastic-Life, Gerastic-Parts, Gerastic-Work and Server-Timing of a page, as they apply. */
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
  /** The share of found fragments that are filled, too, and compared, behind the caller; 1 in development. */
  check?: number
  /** Of fragments that say none. */
  lifetime?: Time
  /** Of all fragments. */
  tags?: string[]
  fetch?: typeof globalThis.fetch
  warn?: (line: string) => void
}

/** Text that is HTML already. */
export class Html {
  constructor(text: string)
  toString(): string
}

/** What a template is given besides its values. */
export interface Block {
  /** The tag of templates: what is put in is escaped, unless it is Html; promises are waited for. */
  html(texts: TemplateStringsArray, ...values: unknown[]): Promise<Html>
  raw(text: string): Html
  render(name: string, values?: Record<string, unknown>): Promise<Html>
  /** A block as a fragment: of the template's name, with its text's digest in the key. The other words are its values. */
  fragment(name: string, words?: Omit<Fragment, 'name' | 'encoder' | 'type'> & Record<string, unknown>): Promise<Html>
  /** One for each of a list, in one trip; parts, version and {places} of tags name members of each. */
  fragments(name: string, items: Iterable<any>, words: { each: string; parts?: string[]; version?: string; lifetime?: Time; stale?: Time; tags?: string[] } & Record<string, unknown>): Promise<Html>
}

export class Templates {
  render(name: string, values?: Record<string, unknown>, page?: Scope): Promise<string>
}

/** The page or fragment that is being made here, in Node. */
export function current(): Scope | undefined

/** The fragments of an application. Make one for its life. */
export class Fragments {
  constructor(options: Options)
  namespace: string
  /** What became of fragments: found, filled here, waited for; failed: the node was not reached. */
  counts(): { found: number; filled: number; waited: number; failed: number }
  /** Begins a page, which collects tags, lives and a report. */
  page(requestHeaders?: Headers | Record<string, string | string[] | undefined>): Scope
  loadOrFill<T = string>(fragment: Fragment<T>, fill: Fill<T>): Promise<T>
  loadOrFillAll<T = string>(fragments: Fragment<T>[], fill: (scope: Scope, index: number) => T | null | Promise<T | null>): Promise<T[]>
  of<K extends Keyed>(thing: K, fill: (thing: K, scope: Scope) => string | Promise<string>): Promise<string>
  /** A fragment, or null if it is not there, or stale. */
  load<T = string>(fragment: Fragment<T>): Promise<T | null>
  loadAll<T = string>(fragments: Fragment<T>[]): Promise<(T | null)[]>
  /** Stores a fragment; false if a purge of it came since it was last looked up here, or the node was not reached. */
  store<T = string>(fragment: Fragment<T>, value: T): Promise<boolean>
  /** Drops a fragment on every node. */
  drop(fragment: Pick<Fragment, 'name' | 'parts' | 'version'>): Promise<void>
  /** Counts what it took to make what is being made here, in Node. */
  did(amounts: Record<string, number>): void
  /** Templates: functions of their values, by name, whose blocks are fragments. */
  templates(all: Record<string, (values: any, block: Block) => unknown>): Templates
  /** Waits for the fills that go on behind callers. */
  settle(): Promise<void>
}
