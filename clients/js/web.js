// Middleware that tells the edge what is in a page, and answers early with 304. After page.unchanged(null, { modified })
// returned true the application answers anything, and it becomes a 304. Pages of text and JSON are held until they are
// whole, since only then it is known what is in them; anything else passes as it comes.

import { current } from './scope.js'

const held = new Set(['text/html', 'text/plain', 'text/xml', 'application/json', 'application/xml', 'application/xhtml+xml', 'application/rss+xml', 'application/atom+xml'])
const isHeld = (type, page) => page.notModified || held.has(String(type ?? '').split(';')[0].trim().toLowerCase())

// told are the headers of a page that is whole, and those that it leaves out.
function told(page, status) {
  const headers = page.headers()
  if (status !== 200 && status !== 304) {
    delete headers.ETag
    delete headers['Last-Modified']
  }
  const unchanged = status === 200 && page.notModified
  return { headers, status: unchanged ? 304 : status, without: unchanged ? ['content-length', 'content-type', 'content-encoding'] : [] }
}

/**
 * Middleware for Node's http, and for frameworks that take (request, response, next):
 * createServer((request, response) => pages(request, response, () => application(request, response))).
 * The page is request.page, and the one that is being made wherever fragments are asked for.
 */
export function pages(fragments) {
  return (request, response, next) => {
    const page = (request.page = fragments.page(request.headers))
    const { writeHead, write, end } = response
    const chunks = []
    let passes
    response.writeHead = (status, reason, headers) => {
      response.statusCode = status
      for (const [name, value] of Object.entries((typeof reason === 'object' ? reason : headers) ?? {})) response.setHeader(name, value)
      return response
    }
    const decided = () => {
      passes ??= !isHeld(response.getHeader('content-type'), page)
      if (passes) Object.assign(response, { writeHead, write, end })
      return passes
    }
    response.write = (chunk, ...rest) => {
      if (decided()) return response.write(chunk, ...rest)
      chunks.push(Buffer.from(chunk, typeof rest[0] === 'string' ? rest[0] : undefined))
      return true
    }
    response.end = (chunk, ...rest) => {
      if (decided()) return response.end(chunk, ...rest)
      if (chunk && typeof chunk !== 'function') chunks.push(Buffer.from(chunk, typeof rest[0] === 'string' ? rest[0] : undefined))
      const { headers, status, without } = told(page, response.statusCode)
      for (const name of without) response.removeHeader(name)
      for (const [name, value] of Object.entries(headers)) response.setHeader(name, ['Server-Timing', 'Cache-Groups'].includes(name) && response.hasHeader(name) ? `${response.getHeader(name)}, ${value}` : value)
      response.statusCode = status
      Object.assign(response, { writeHead, write, end })
      return response.end(status === 304 ? undefined : Buffer.concat(chunks), ...rest.filter((one) => typeof one === 'function'))
    }
    return page.within(next)
  }
}

/** Middleware for fetch handlers: fetchPages(fragments, (request, page) => new Response(…)). */
export function fetchPages(fragments, handler) {
  return async (request, ...rest) => {
    const page = fragments.page(request.headers)
    const answer = await page.within(() => handler(request, page, ...rest))
    if (!isHeld(answer.headers.get('content-type'), page)) return answer
    const body = await answer.arrayBuffer()
    const { headers, status, without } = told(page, answer.status)
    const out = new Headers(answer.headers)
    for (const name of without) out.delete(name)
    for (const [name, value] of Object.entries(headers)) ['Server-Timing', 'Cache-Groups'].includes(name) ? out.append(name, value) : out.set(name, value)
    return new Response(status === 304 || status === 204 ? null : body, { status, headers: out })
  }
}

/** Counts the queries and rows of a client or pool of pg as the work of what is made with them. */
export function counted(client) {
  const query = client.query
  client.query = function (...args) {
    const scope = current()
    scope?.did({ queries: 1 })
    const answer = query.apply(this, args)
    return typeof answer?.then === 'function' ? answer.then((result) => (scope && result?.rowCount > 0 && scope.did({ rows: result.rowCount }), result)) : answer
  }
  return client
}
