// Koa with koa-session, conditional GET and ETag middleware, koa-static and a router. A
// token in the session guards against forged forms; a message waits there, too.
const crypto = require('node:crypto')
const path = require('node:path')
const { PassThrough } = require('node:stream')
const plain = (module) => module.default ?? module // some of these are ES modules
const Koa = plain(require('koa'))
const Router = plain(require('@koa/router'))
const bodyParser = plain(require('koa-bodyparser'))
const conditional = plain(require('koa-conditional-get'))
const etag = plain(require('koa-etag'))
const session = plain(require('koa-session'))
const serve = plain(require('koa-static'))

const app = new Koa()
app.keys = ['made up']
const router = new Router()
let open = 0

app.use(conditional())
app.use(etag())
app.use(async (ctx, next) => {
  if (!ctx.path.startsWith('/static/')) return next()
  ctx.path = ctx.path.slice('/static'.length)
  await serve(path.join(__dirname, '..', 'public'))(ctx, () => {})
})
app.use(session(app))
app.use(bodyParser())

router.get('/', (ctx) => { ctx.body = '<h1>Departures from Tholm</h1>' })
router.get('/greeting', (ctx) => { ctx.body = ctx.acceptsLanguages('nb') ? 'Hei' : 'Hello' })
router.get('/login', (ctx) => {
  ctx.session.user = ctx.query.as
  ctx.status = 303
  ctx.redirect('/me')
})
router.get('/me', async (ctx) => {
  await new Promise((resolve) => setTimeout(resolve, 30))
  ctx.body = `Hello ${ctx.session.user || 'nobody'}`
})
router.get('/notes', (ctx) => {
  ctx.session.token ||= crypto.randomUUID()
  ctx.body = `token=${ctx.session.token}\nflash=${ctx.session.note || ''}\n`
  delete ctx.session.note
})
router.post('/notes', (ctx) => {
  if (!ctx.session.token || ctx.request.body._csrf !== ctx.session.token) return ctx.throw(403, 'forged')
  ctx.session.note = `saved ${ctx.request.body.text}`
  ctx.status = 303
  ctx.redirect('/notes')
})
router.get('/events', (ctx) => {
  const stream = new PassThrough()
  open++
  ctx.type = 'text/event-stream'
  ctx.body = stream
  stream.write(`data: for ${ctx.session.user || 'nobody'}\n\n`)
  const beat = setInterval(() => stream.write(': on\n\n'), 100)
  ctx.req.on('close', () => {
    open--
    clearInterval(beat)
    stream.end()
  })
})
router.get('/open', (ctx) => {
  ctx.set('Cache-Control', 'no-store')
  ctx.body = String(open)
})
router.post('/upload', async (ctx) => {
  let size = 0
  for await (const chunk of ctx.req) size += chunk.length
  ctx.body = `received ${size}`
})
app.use(router.routes())

app.listen(process.env.PORT, '127.0.0.1')
