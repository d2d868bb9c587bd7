<script setup lang="ts">
import { NInput, NModal } from 'naive-ui'
import { onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api } from '../api'
import { plural } from '../format'
import { rail } from '../router'

// Opened with "/": finds a page, a route or a tag.
interface Found {
  label: string
  kind: string
  to: { path: string; query?: Record<string, string> }
}

const open = ref(false)
const text = ref('')
const found = ref<Found[]>([])
const chosen = ref(0)
const router = useRouter()

function onKey(e: KeyboardEvent) {
  const typing = e.target instanceof HTMLElement && (e.target.matches('input, textarea, select') || e.target.isContentEditable)
  if (e.key !== '/' || typing || e.ctrlKey || e.metaKey || e.altKey) return
  e.preventDefault()
  text.value = ''
  open.value = true
}
onMounted(() => document.addEventListener('keydown', onKey))
onUnmounted(() => document.removeEventListener('keydown', onKey))

async function search(asked: string) {
  const has = (s: string) => s.toLowerCase().includes(asked.toLowerCase())
  const pages = rail.flatMap((g) => g.pages).filter((p) => has(p.label))
  const all: Found[] = pages.map((p) => ({ label: p.label, kind: 'page', to: { path: p.path } }))
  if (asked) {
    const [routes, tags] = await Promise.all([api.routes('15m'), api.tags(asked, 8)])
    for (const r of routes.filter((r) => has(r.name) || has(r.path))) all.push({ label: `${r.name}  ${r.path}`, kind: 'route', to: { path: '/routes', query: { route: r.name } } })
    for (const t of tags) all.push({ label: t.tag, kind: `tag, ${plural(t.entries, 'entry', 'entries')}`, to: { path: '/tags', query: { tag: t.tag } } })
  }
  if (asked !== text.value) return
  found.value = all
  chosen.value = 0
}
watch([text, open], () => void search(text.value).catch(() => undefined))

function go(f: Found | undefined) {
  if (!f) return
  open.value = false
  void router.push(f.to)
}
function move(by: number) {
  chosen.value = Math.min(Math.max(0, chosen.value + by), found.value.length - 1)
}
</script>

<template>
  <NModal v-model:show="open" :auto-focus="true" transform-origin="center">
    <div class="box" role="dialog" aria-label="Search">
      <NInput v-model:value="text" placeholder="A page, a route, the beginning of a tag" @keydown.enter="go(found[chosen])" @keydown.down.prevent="move(1)" @keydown.up.prevent="move(-1)" />
      <ul>
        <li v-for="(f, i) in found" :key="f.kind + f.label" :class="{ chosen: i === chosen }">
          <a href="#" @click.prevent="go(f)"><span class="mono">{{ f.label }}</span> <span class="quiet">{{ f.kind }}</span></a>
        </li>
        <li v-if="found.length === 0" class="quiet none">Nothing is called that.</li>
      </ul>
    </div>
  </NModal>
</template>

<style scoped>
.box { width: min(560px, 92vw); background: var(--panel); border: 1px solid var(--line); padding: 16px; }
ul { list-style: none; margin: 8px 0 0; padding: 0; max-height: 320px; overflow-y: auto; }
li a { display: flex; justify-content: space-between; gap: 16px; padding: 6px 8px; color: var(--ink); text-decoration: none; }
li.chosen a { background: var(--ground); box-shadow: inset 3px 0 var(--accent); }
.none { padding: 6px 8px; }
</style>
