// What a purge can name, and how one is told in words.
import { api, type Purge, type PurgeRequest } from './api'

// Tags are looked up; the others are typed.
export const kinds = {
  tags: { label: 'Tags', hint: 'port:tholm, or port:* for all that begin so' },
  urls: { label: 'URLs', hint: '/ports/tholm?page=2, or with https://HOST before' },
  routes: { label: 'Routes', hint: 'departures' },
  below: { label: 'Below a path', hint: '/ports/, or with https://HOST before' },
  hosts: { label: 'Hosts', hint: 'www.ostrel.example' },
  all: { label: 'All that is stored', hint: '' },
} as const
export type Kind = keyof typeof kinds

/** An order as it is written in the form. */
export interface Draft {
  kind: Kind
  names: string[]
  together: boolean
  mode: 'drop' | 'stale'
  reason: string
}

export function request(d: Draft, preview: boolean): PurgeRequest {
  const named = d.kind === 'all' ? { all: true } : { [d.kind]: [...d.names] }
  const together = (d.kind === 'tags' && d.together && d.names.length > 1) || undefined
  return { ...named, together, mode: d.mode, preview, reason: preview ? undefined : d.reason || undefined }
}

/** A pattern for the tags that a name with stars stands for. */
export function pattern(name: string): RegExp {
  return new RegExp(`^${name.split('*').map((s) => s.replace(/[.+?^${}()|[\]\\]/g, '\\$&')).join('.*')}$`, 's')
}

/** A star is only a way to write: it is spelled out from the tags that are stored. */
export async function spelledOut(name: string): Promise<string[]> {
  const like = pattern(name)
  const names = (await api.tags(name.slice(0, name.indexOf('*')), 1000)).map((t) => t.tag).filter((t) => like.test(t))
  if (names.length === 0) throw new Error(`No stored entry carries a tag like ${name}.`)
  return names
}

export function named(p: Purge): string {
  if (p.all) return 'all that is stored'
  const tags = p.together ? [p.tags.join(' + ')] : p.tags
  return [...tags, ...p.routes.map((r) => `route ${r}`), ...p.below.map((x) => `below ${x}`), ...(p.begins ?? []).map((b) => `tags ${b}…`), ...p.hosts.map((h) => `host ${h}`), ...p.urls, ...(p.entry ? [`the entry ${p.entry}`] : [])].join(', ')
}

export const byCount = (routes: Record<string, number>) => Object.entries(routes).sort((a, b) => b[1] - a[1])
