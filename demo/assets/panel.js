// A panel for engineers: which parts this page was made of, and which were made for it.
// Open a page with #explain=TOKEN; the token stays in this tab.
const given = new URLSearchParams(location.hash.slice(1)).get('explain')
if (given) {
  sessionStorage.setItem('explain', given)
  history.replaceState(null, '', location.pathname + location.search)
}
const token = sessionStorage.getItem('explain')
if (token) show(token)

async function show(token) {
  const answer = await fetch(location.href, { cache: 'no-cache', headers: { 'Gerastic-Explain': token } })
  const status = answer.headers.get('Cache-Status') ?? ''
  const panel = document.createElement('aside')
  panel.className = 'parts'
  panel.setAttribute('aria-label', 'What this page is made of')
  const head = panel.appendChild(document.createElement('h2'))
  head.textContent = 'What this page is made of'
  const close = head.appendChild(document.createElement('button'))
  close.textContent = 'Close'
  close.onclick = () => {
    sessionStorage.removeItem('explain')
    panel.remove()
  }
  const mine = status.split(/,\s*(?=gerastic)/).pop()
  const line = panel.appendChild(document.createElement('p'))
  const age = answer.headers.get('Age')
  if (!/; detail=/.test(mine)) line.textContent = 'The token does not open this; ask for one with the right to read.'
  else line.textContent = /; hit/.test(mine) ? `The page: reused${age ? `, ${age} s old. When it was made:` : '.'}` : `The page: asked of the application (${/detail="?([^";]*)/.exec(mine)[1]}).`
  const table = panel.appendChild(document.createElement('table'))
  for (const part of parts(answer.headers.get('Gerastic-Parts') ?? '')) {
    const row = table.appendChild(document.createElement('tr'))
    row.className = part.made ? 'made-now' : ''
    const name = row.appendChild(document.createElement('td'))
    name.style.paddingLeft = `${(part.depth - 1) * 16}px`
    name.textContent = part.name.replace(/@.*/, '') // the version is in the title
    name.title = part.name
    row.appendChild(document.createElement('td')).textContent = part.made ? 'made' : part.found === 'stale' ? 'reused, stale' : 'reused'
    row.appendChild(document.createElement('td')).textContent = part.made ? `${part.took} ms` : `${part.age} s old`
  }
  if (!table.rows.length) table.remove()
  document.body.append(panel)
}

// parts reads the structured field (RFC 9651) that lists them.
function parts(field) {
  const list = []
  for (const [, text, params] of field.matchAll(/%?"((?:[^"\\]|\\.)*)"((?:;[^,;]*)*)/g)) {
    const told = Object.fromEntries(params.split(';').slice(1).map((p) => p.split('=')))
    list.push({
      name: text.replace(/\\(.)/g, '$1'), found: told.found, depth: Number(told.depth ?? 1), age: told.age ?? 0, took: Math.round(told.took),
      made: ['filled', 'alone', 'miss', 'bypass', 'revalidated', 'joined', 'error'].includes(told.found),
    })
  }
  return list
}
