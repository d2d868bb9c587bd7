// Templates whose blocks are fragments: functions of their values, with tagged templates that escape.
//
//   const pages = fragments.templates({
//     page: ({ sailings }, t) => t.html`<ul>${t.fragments('row', sailings, { each: 'sailing', parts: ['id'], lifetime: '1h' })}</ul>`,
//     row: ({ sailing }, t) => t.html`<li>${sailing.name}</li>`,
//   })
//   const html = await pages.render('page', { sailings }, page)
//
// A fragment's name is that of its template. The digest of the template's text, and of those within it, is part of the
// key, so that an edited block shows at once.

import { itemOf } from './item.js'
import { current } from './scope.js'
import { sha256 } from './sha256.js'

/** Text that is HTML already. */
export class Html {
  constructor(text) {
    this.text = text
  }

  toString() {
    return this.text
  }
}

const escapes = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' }

async function escaped(value) {
  value = await value
  if (value === null || value === undefined || value === false) return ''
  if (value instanceof Html) return value.text
  if (Array.isArray(value)) return (await Promise.all(value.map(escaped))).join('')
  return String(value).replace(/[&<>"']/g, (c) => escapes[c])
}

/** The tag of templates: what is put in is escaped, unless it is Html; promises are waited for. */
async function html(texts, ...values) {
  const written = await Promise.all(values.map(escaped))
  return new Html(texts.map((text, i) => text + (written[i] ?? '')).join(''))
}

const member = (thing, path) => path.split('.').reduce((inner, name) => inner?.[name], thing)

export class Templates {
  #fragments
  #all
  #digests = new Map()

  constructor(fragments, all) {
    this.#fragments = fragments
    this.#all = all
  }

  /** Renders a template into a page. */
  async render(name, values = {}, page = current() ?? this.#fragments.page()) {
    return String(await this.#render(name, values, page))
  }

  /** A block of a page, found or rendered. */
  fragment(name, words, page = current() ?? this.#fragments.page()) {
    return this.#inside(page).fragment(name, words)
  }

  async #render(name, values, scope) {
    return scope.within(async () => new Html(await escaped(this.#template(name)(values, this.#inside(scope)))))
  }

  #template(name) {
    if (!Object.hasOwn(this.#all, name)) throw new TypeError(`there is no template ${name}`)
    return this.#all[name]
  }

  // inside is what a template is given: what its fragments go into is known.
  #inside(scope) {
    return {
      html,
      raw: (text) => new Html(String(text)),
      render: (name, values = {}) => this.#render(name, values, scope),
      fragment: async (name, { parts = [], version, lifetime, stale, tags, ...values } = {}) => {
        const fill = async (inner) => String(await this.#render(name, values, inner))
        fill.values = values
        const made = await this.#fragments.into(scope, [this.#item(name, parts, { version, lifetime, stale, tags })], fill, Object.assign(fill, { toString: () => this.#all[name].toString() }))
        return new Html(made[0])
      },
      fragments: async (name, items, { each, parts = [], version, lifetime, stale, tags = [], ...values }) => {
        const all = [...items]
        const wanted = all.map((one) => {
          const said = typeof one?.fragmentKey === 'function' ? itemOf(one) : {}
          return this.#item(name, [...(said.parts ?? []), ...parts.map((path) => member(one, path))], {
            version: version ? member(one, version) : said.version, lifetime: lifetime ?? said.lifetime, stale,
            tags: [...(said.tags ?? []), ...tags.map((tag) => tag.replace(/\{([^}]*)\}/g, (_, path) => String(member(one, path))))],
          })
        })
        const fill = async (inner, i) => String(await this.#render(name, { ...values, [each]: all[i] }, inner))
        fill.toString = () => this.#all[name].toString()
        return new Html((await this.#fragments.into(scope, wanted, fill, fill)).join(''))
      },
    }
  }

  #item(name, parts, words) {
    return { name: name.replace(/[^A-Za-z0-9_.-]/g, '.').slice(0, 64), parts: [...parts, this.#digest(name)], ...Object.fromEntries(Object.entries(words).filter(([, value]) => value !== undefined)) }
  }

  // digest is that of a template's text, with those within it.
  #digest(name) {
    const texts = new Map()
    const gather = (one) => {
      if (texts.has(one)) return
      texts.set(one, this.#template(one).toString())
      for (const [, inner] of texts.get(one).matchAll(/\b(?:fragments?|render)\(\s*['"`]([^'"`]+)/g)) gather(inner)
    }
    gather(name)
    const whole = [...texts].sort(([a], [b]) => (a < b ? -1 : 1)).flat().join('\0')
    if (!this.#digests.has(whole)) this.#digests.set(whole, sha256(whole).slice(0, 12))
    return this.#digests.get(whole)
  }
}
