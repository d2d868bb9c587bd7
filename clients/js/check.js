// A wrong key is noticed: what was found is filled, too, and compared.

/** Milliseconds in which a purge may come that explains a difference. */
export const grace = 1000
const mostNames = 1000
const sampled = 400

// shape is what a fill does, but for its numbers, and however its variables are called.
const shape = (fill) => fill.toString().replace(/\b\d[\d_.]*\b/g, '0').replace(/(?<![.\w$'"`])[A-Za-z_$][\w$]*(?!\s*\(|[\w$'"`])/g, '_').replace(/\s+/g, ' ')

export class Check {
  #places = new Map()
  #told = new Map()

  /** What is wrong, if another place fills this name otherwise. */
  copied(name, fill) {
    const now = shape(fill)
    const before = this.#places.get(name)
    if (before === undefined && this.#places.size < mostNames) this.#places.set(name, { shape: now, at: place() })
    if (before === undefined || before.shape === now) return undefined
    return `the fragment ${name} is filled in two places, ${before.at} and ${place()}; give each a name of its own, or share one fill`
  }

  /** Reports whether a clash of a name would be the first in a minute. */
  due = (name) => Date.now() - (this.#told.get(name) ?? -60_000) >= 60_000

  /** Reports the same, and notes it. */
  first(name) {
    if (!this.due(name)) return false
    if (this.#told.size >= mostNames) this.#told.clear()
    this.#told.set(name, Date.now())
    return true
  }
}

// place is where the application is called from: the first line of the stack that is not the kit's.
function place() {
  const own = new URL('.', import.meta.url).pathname
  const line = (new Error().stack ?? '').split('\n').slice(1).find((one) => !one.includes(own) || one.includes(own + 'test/'))
  return /((?:file:\/\/|\/)?[^\s()]+:\d+):\d+/.exec(line ?? '')?.[1].replace('file://', '') ?? 'somewhere'
}

/** What is told of a clash. */
export function clashOf(one, fill, found, made) {
  let at = 0
  while (at < Math.min(found.length, made.length) && found[at] === made[at]) at++
  const from = Math.max(found.length, made.length) > sampled ? Math.max(0, at - sampled / 2) : 0
  return { key: one.key, samples: [found.slice(from, from + sampled), made.slice(from, from + sampled)], missing: missing(one, fill, found, made) }
}

/** The line of a clash. */
export function lineOf({ key, samples, missing }) {
  const [found, made] = samples.map((sample) => sample.replace(/\s+/g, ' ').trim().slice(0, 80))
  return `the key ${key} leaves something out${missing && `, likely ${missing}`}: what was there is '${found}', and a fill made '${made}'`
}

const common = new Set('async await break case catch class const continue default delete do else export extends false finally for function if import in instanceof let new null return static super switch this throw true try typeof undefined var void while with yield of scope page JSON Math Date String Number Object Array Promise console process'.split(' '))

// missing is the argument that the key likely leaves out. What a function holds is not shown in this language: the
// values that came with the fragment are known, and else the names that the function uses.
function missing(one, fill, found, made) {
  const parts = one.parts.map(String)
  for (const [name, value] of Object.entries(fill.values ?? {})) {
    if (['string', 'number', 'boolean'].includes(typeof value) && !parts.includes(String(value)) && made.includes(String(value)) && !found.includes(String(value))) return name
  }
  if (fill.values) return Object.keys(fill.values)[0] ?? ''
  const source = fill.toString().replace(/(['"])(?:\\.|(?!\1).)*\1/g, '').replace(/`[^`]*`/g, (text) => [...text.matchAll(/\$\{([^}]*)\}/g)].map((m) => m[1]).join(';'))
  const params = new Set((/^(?:async\s*)?(?:function\s*\w*\s*)?\(?([^)=]*)\)?\s*(?:=>|\{)/.exec(source)?.[1] ?? '').split(/[\s,]+/))
  const names = [...source.matchAll(/(?<![.\w$])([A-Za-z_$][\w$]*(?:\.[A-Za-z_$][\w$]*)*)(?!\s*\(|[\w$])/g)].map((m) => m[1]).filter((name) => !common.has(name.split('.')[0]) && !params.has(name))
  return [...new Set(names)].slice(0, 3).join(' or ')
}
