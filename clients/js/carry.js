// What carries calls to a node: Node's own http, which takes half as long as its fetch, or else fetch.

// Asked for by name, so that what packs modules for browsers does not look for them.
const [http, https] = ['node:http', 'node:https'].map((name) => globalThis.process?.getBuiltinModule?.(name))
const longest = 256 << 20 // bytes of an answer

const kept = { keepAlive: true, maxFreeSockets: 16, timeout: 30_000 } // idle connections end before the node ends them
const agents = http && { 'http:': [http, new http.Agent(kept)], 'https:': [https, new https.Agent(kept)] }

/** Makes a call as fetch does, so far as a kit needs it. */
export const carry = http ? exchange : (...all) => globalThis.fetch(...all)

function exchange(address, { method, body, headers, signal }) {
  const url = new URL(address)
  const [client, agent] = agents[url.protocol]
  return new Promise((resolve, reject) => {
    signal?.throwIfAborted()
    const request = client.request(url, { method, headers, agent }, (answer) => {
      const { statusCode: status } = answer
      const arrayBuffer = () => gathered(answer, request, signal)
      resolve({ status, ok: status >= 200 && status < 300, arrayBuffer, json: async () => JSON.parse(new TextDecoder().decode(await arrayBuffer())) })
    })
    signal?.addEventListener('abort', () => request.destroy(signal.reason), { once: true })
    request.on('error', (error) => {
      // The node closed a connection that had rested before this came: as long as nothing was answered, another one is tried.
      const gone = request.reusedSocket && !request.res && (error.code === 'ECONNRESET' || error.code === 'EPIPE')
      if (gone && !signal?.aborted) resolve(exchange(address, { method, body, headers, signal }))
      else reject(signal?.aborted ? signal.reason : error)
    })
    request.end(body)
  })
}

function gathered(answer, request, signal) {
  return new Promise((resolve, reject) => {
    const pieces = []
    let size = 0
    answer.on('data', (piece) => {
      pieces.push(piece)
      if ((size += piece.length) > longest) request.destroy(new Error('the answer is too long'))
    })
    answer.on('end', () => (answer.complete ? resolve(pieces.length === 1 ? pieces[0] : Buffer.concat(pieces)) : reject(new Error('the answer ended too early'))))
    answer.on('error', (error) => reject(signal?.aborted ? signal.reason : error))
  })
}
