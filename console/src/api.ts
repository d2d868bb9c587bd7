// Calls of the control API. Their types are made from its description (api.gen.ts).
import type { components } from './api.gen'

type Schemas = components['schemas']
export type RatioReport = Schemas['RatioReport']
export type RatioRow = Schemas['RatioRow']
export type Route = Schemas['Route']
export type NewRoute = Schemas['NewRoute']
export type RouteChange = Schemas['RouteChange']
export type Node = Schemas['Node']
export type Mark = Schemas['Mark']
export type Purge = Schemas['Purge']
export type OnwardTarget = Schemas['OnwardTarget']
export type PurgeRequest = Schemas['PurgeRequest']
export type PurgeResult = Schemas['PurgeResult']
export type Finding = Schemas['Finding']
export type RequestEvent = Schemas['Event']
export type FragmentEvent = Schemas['FragmentEvent']
export type SavingsReport = Schemas['SavingsReport']
export type SavingsRow = Schemas['SavingsRow']
export type Tag = Schemas['StoredTag']
export type Entry = Schemas['Entry']
export type EntryDetail = Schemas['EntryDetail']
export type EntryList = Schemas['EntryList']
export type SizeReport = Schemas['SizeReport']
export type SizeRow = Schemas['SizeRow']
export type Curve = Schemas['Curve']
export type CurvePoint = Schemas['CurvePoint']
export type Prime = Schemas['Prime']
export type FragmentName = Schemas['FragmentName']
export type PartsTree = Schemas['PartsTree']
export type ChangesStatus = Schemas['ChangesStatus']
export type ChangeRun = Schemas['ChangeRun']
export type ChangeTrial = Schemas['ChangeTrial']
export type WhoAmI = Schemas['WhoAmI']

/** A problem that the node answered with, or the lack of an answer (status 0). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message)
  }
}

/** also: a status of failure that carries an answer all the same. */
async function call<T>(method: string, path: string, body?: unknown, also?: number): Promise<T> {
  let response: Response
  try {
    response = await fetch(path, {
      method,
      headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch {
    throw new Problem(0, 'The node does not answer. Is it still running?')
  }
  const json = (response.headers.get('Content-Type') ?? '').startsWith('application/json')
  if (!response.ok && !(response.status === also && json)) {
    const problem = await response.json().catch(() => ({}))
    const details = (problem.errors ?? []).map((e: { location?: string; message: string }) => `${e.location ?? ''} ${e.message}`.trim())
    throw new Problem(response.status, [problem.detail ?? problem.title ?? response.statusText, ...details].join('; '))
  }
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T)
}

const query = (values: Record<string, string | undefined>) =>
  '?' + new URLSearchParams(Object.entries(values).filter((e): e is [string, string] => !!e[1])).toString()

export const api = {
  whoAmI: () => call<WhoAmI>('GET', '/v1/session'),
  signIn: (token: string) => call<WhoAmI>('POST', '/v1/session', { token }),
  signOut: () => call<void>('DELETE', '/v1/session'),
  ratio: (q: { since: string; until?: string; by: 'route' | 'time' | 'total'; route?: string }) =>
    call<RatioReport>('GET', '/v1/reports/ratio' + query(q)),
  savings: (since: string, price: string[]) => call<SavingsReport>('GET', `/v1/reports/savings${query({ since })}${price.map((p) => '&price=' + encodeURIComponent(p)).join('')}`),
  routes: (since: string) => call<{ routes: Route[] }>('GET', '/v1/routes' + query({ since })).then((r) => r.routes),
  switchRoute: (name: string, enabled: boolean) => call<void>('PATCH', `/v1/routes/${encodeURIComponent(name)}`, { enabled }),
  addRoute: (route: NewRoute) => call<RouteChange>('POST', '/v1/routes', route),
  setRoute: (name: string, settings: string[], preview: boolean) => call<RouteChange>('PUT', `/v1/routes/${encodeURIComponent(name)}/settings`, { settings, preview }),
  nodes: () => call<{ nodes: Node[] }>('GET', '/v1/nodes').then((r) => r.nodes),
  tags: (prefix: string, limit = 20) => call<{ tags: Tag[] }>('GET', '/v1/tags' + query({ prefix, limit: String(limit) })).then((r) => r.tags),
  findings: (since: string) => call<{ findings: Finding[] }>('GET', '/v1/findings' + query({ since })).then((r) => r.findings),
  marks: (since: string, kind: string, limit = 50) => call<{ marks: Mark[] }>('GET', '/v1/marks' + query({ since, kind, limit: String(limit) })).then((r) => r.marks),
  onward: () => call<{ targets: OnwardTarget[] }>('GET', '/v1/onward').then((r) => r.targets),
  purges: (limit = 50) => call<{ purges: Purge[] }>('GET', '/v1/purges' + query({ limit: String(limit) })).then((r) => r.purges),
  entries: (tag: string, limit = 50) => call<{ entries: Entry[] }>('GET', '/v1/entries' + query({ tag, limit: String(limit) })).then((r) => r.entries),
  entriesOf: (route: string, limit = 50) => call<{ entries: Entry[] }>('GET', '/v1/entries' + query({ route, limit: String(limit) })).then((r) => r.entries),
  entryList: (q: Record<string, string>) => call<EntryList>('GET', '/v1/entries' + query(q)),
  entry: (id: string) => call<EntryDetail>('GET', `/v1/entries/${encodeURIComponent(id)}`),
  dropEntry: (id: string, preview: boolean) => call<PurgeResult>('DELETE', `/v1/entries/${encodeURIComponent(id)}` + query({ preview: preview ? 'true' : undefined })),
  sizes: (since: string) => call<SizeReport>('GET', '/v1/reports/size' + query({ since })),
  curve: () => call<Curve>('GET', '/v1/reports/curve'),
  primes: () => call<{ primes: Prime[] }>('GET', '/v1/primes').then((r) => r.primes),
  fragmentNames: (since: string) => call<{ names: FragmentName[] }>('GET', '/v1/fragments' + query({ since })).then((r) => r.names),
  madeOf: (name: string) => call<PartsTree>('GET', '/v1/made-of' + query({ name })),
  changes: () => call<ChangesStatus>('GET', '/v1/changes/status', undefined, 503),
  runs: (limit = 30) => call<{ runs: ChangeRun[] }>('GET', '/v1/changes/runs' + query({ limit: String(limit) })).then((r) => r.runs),
  runNow: (source: string) => call<ChangeRun>('POST', '/v1/changes/run', { source }),
  tryChange: (change: { kind: string; op?: string; before?: unknown; after?: unknown }) => call<ChangeTrial>('POST', '/v1/changes/try', change),
  purge: (order: PurgeRequest) => call<PurgeResult>('POST', '/v1/purges', order),
}

/** What is followed, requests or fragments, and which of them; an empty value matches all. */
export interface EventFilter {
  of: string
  outcome: string
  route: string
  path: string
}

/** Follows what happens, until the function that it returns is called. */
export function followEvents(filter: EventFilter, on: { open: () => void; broken: () => void; event: (e: RequestEvent | FragmentEvent) => void }): () => void {
  const source = new EventSource('/v1/events' + query({ ...filter }))
  const take = (m: MessageEvent<string>) => on.event(JSON.parse(m.data) as RequestEvent | FragmentEvent)
  source.onopen = on.open
  source.onerror = on.broken
  source.onmessage = take
  source.addEventListener('request', take)
  source.addEventListener('fragment', take)
  return () => source.close()
}
