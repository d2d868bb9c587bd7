// Fastify with its own plugins for sessions, CSRF, flash messages, entity tags, static
// files, forms and uploads.
const path = require('node:path')
const fastify = require('fastify')()
let open = 0

fastify.register(require('@fastify/cookie'))
fastify.register(require('@fastify/session'), { secret: 'a made-up secret of thirty-two letters', cookie: { secure: false }, saveUninitialized: false })
fastify.register(require('@fastify/csrf-protection'), { sessionPlugin: '@fastify/session' })
fastify.register(require('@fastify/flash'))
fastify.register(require('@fastify/etag'))
fastify.register(require('@fastify/formbody'))
fastify.register(require('@fastify/multipart'))
fastify.register(require('@fastify/static'), { root: path.join(__dirname, '..', 'public'), prefix: '/static/' })

fastify.register(async (app) => {
  const html = (reply, text) => reply.type('text/html').send(text)
  app.get('/', (req, reply) => html(reply, '<h1>Departures from Tholm</h1>'))
  app.get('/greeting', (req, reply) => html(reply, (req.headers['accept-language'] || '').startsWith('nb') ? 'Hei' : 'Hello'))
  app.get('/login', (req, reply) => {
    req.session.user = req.query.as
    reply.redirect('/me', 303)
  })
  app.get('/me', async (req, reply) => {
    await new Promise((resolve) => setTimeout(resolve, 30))
    return html(reply, `Hello ${req.session.user || 'nobody'}`)
  })
  app.get('/notes', async (req, reply) => {
    const token = reply.generateCsrf()
    return html(reply, `token=${token}\nflash=${(reply.flash('note') || []).join()}\n`)
  })
  app.post('/notes', { preHandler: app.csrfProtection }, async (req, reply) => {
    req.flash('note', `saved ${req.body.text}`)
    return reply.redirect('/notes', 303)
  })
  app.get('/events', (req, reply) => {
    open++
    reply.hijack()
    reply.raw.writeHead(200, { 'Content-Type': 'text/event-stream' })
    reply.raw.write(`data: for ${req.session.user || 'nobody'}\n\n`)
    const beat = setInterval(() => reply.raw.write(': on\n\n'), 100)
    req.raw.on('close', () => {
      open--
      clearInterval(beat)
    })
  })
  app.get('/open', (req, reply) => reply.header('Cache-Control', 'no-store').send(String(open)))
  app.post('/upload', async (req) => {
    const file = await req.file()
    return `received ${(await file.toBuffer()).length}`
  })
})

fastify.listen({ port: Number(process.env.PORT), host: '127.0.0.1' })
