// Express with express-session, connect-flash, multer and its own static files. A token in
// the session guards against forged forms.
const crypto = require('node:crypto')
const path = require('node:path')
const express = require('express')
const session = require('express-session')
const flash = require('connect-flash')
const multer = require('multer')

const app = express()
let open = 0

app.use('/static', express.static(path.join(__dirname, '..', 'public')))
app.use(session({ secret: 'made up', resave: false, saveUninitialized: false }))
app.use(flash())
app.use(express.urlencoded({ extended: false }))

app.get('/', (req, res) => res.send('<h1>Departures from Tholm</h1>'))
app.get('/greeting', (req, res) => res.send(req.acceptsLanguages('nb') ? 'Hei' : 'Hello'))
app.get('/login', (req, res) => {
  req.session.user = req.query.as
  res.redirect(303, '/me')
})
app.get('/me', (req, res) => setTimeout(() => res.send(`Hello ${req.session.user || 'nobody'}`), 30))
app.get('/notes', (req, res) => {
  req.session.token ||= crypto.randomUUID()
  res.send(`token=${req.session.token}\nflash=${req.flash('note').join()}\n`)
})
app.post('/notes', (req, res) => {
  if (!req.session.token || req.body._csrf !== req.session.token) return res.status(403).send('forged')
  req.flash('note', `saved ${req.body.text}`)
  res.redirect(303, '/notes')
})
app.get('/events', (req, res) => {
  open++
  res.set('Content-Type', 'text/event-stream')
  res.write(`data: for ${req.session.user || 'nobody'}\n\n`)
  const beat = setInterval(() => res.write(': on\n\n'), 100)
  req.on('close', () => {
    open--
    clearInterval(beat)
  })
})
app.get('/open', (req, res) => res.set('Cache-Control', 'no-store').send(String(open)))
app.post('/upload', multer().single('file'), (req, res) => res.send(`received ${req.file.size}`))

app.listen(process.env.PORT, '127.0.0.1')
