// Fragments, purges and early answers of a Gerastic node, for Node 20.16 and browsers; it needs nothing but fetch. See
// gerastic.d.ts.

import { carry } from './carry.js'
import { Fragments, callJSON } from './fragments.js'
import { seconds } from './key.js'
import { purges } from './scope.js'

export { Fragments } from './fragments.js'
export { bytes, json, text } from './item.js'
export { forever, keyOf, seconds } from './key.js'
export { Scope, current, quoted } from './scope.js'
export { Html } from './templates.js'

/** A node: it gives the fragments of an application, and takes purges and changes. */
export class Gerastic {
  #options

  constructor({ control, token, namespace = '', fetch = carry }) {
    const address = /:\/\//.test(control) ? control : `http://${control}`
    if (!control || !/^https?:$/.test(URL.canParse(address) && new URL(address).protocol)) throw new TypeError(`control: ${JSON.stringify(control)} is no address; write http://127.0.0.1:8490`)
    if (!token) throw new TypeError('a token is missing; make one with: gerastic token create --name APP --rights fragments --namespace APP')
    this.#options = { control: address.replace(/\/$/, ''), token, namespace, fetch }
  }

  /** The parts of pages that the application makes; times may be "250ms". Make one for its life. */
  fragments(options = {}) {
    const ms = (name) => (typeof options[name] === 'string' ? { [name]: seconds(options[name], name) * 1000 } : {})
    return new Fragments({ ...this.#options, ...options, ...ms('timeout'), ...ms('wait'), ...ms('lease') })
  }

  /** Purges on every node: tags, urls, below, routes, hosts, all, mode, reason. If it throws, nothing is known to be purged. */
  async purge(order) {
    const lists = ['tags', 'urls', 'below', 'routes', 'hosts']
    const unknown = Object.keys(order).filter((name) => ![...lists, 'all', 'mode', 'reason'].includes(name))
    if (unknown.length > 0) throw new TypeError(`a purge names tags, urls, below, routes, hosts or all; there is no ${unknown.join(', ')}`)
    for (const name of lists) if (order[name] !== undefined && !Array.isArray(order[name])) throw new TypeError(`${name} is a list; write [${JSON.stringify(order[name])}]`)
    if (!order.all && !lists.some((name) => order[name]?.length > 0)) throw new TypeError('the purge names nothing; give tags, urls, below, routes or hosts, or all: true')
    return callJSON(this.#options, 'POST', '/v1/purges', order).finally(() => purges.ordered++)
  }

  /** Tells of something that changed, after the commit; before null is a create, after null a delete. */
  changed(kind, before, after) {
    const op = before == null ? 'create' : after == null ? 'delete' : 'update'
    return callJSON(this.#options, 'POST', '/v1/changes', { changes: [{ kind, op, before: before ?? undefined, after: after ?? undefined }] }).finally(() => purges.ordered++)
  }
}
