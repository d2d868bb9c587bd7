<script setup lang="ts">
import { NButton, NSelect } from 'naive-ui'
import { useRouter } from 'vue-router'
import { useAppearance, type Choice } from '../appearance'
import { rail } from '../router'
import { useSession } from '../session'

const session = useSession()
const appearance = useAppearance()
const router = useRouter()
const choices = (['system', 'light', 'dark'] as Choice[]).map((c) => ({ value: c, label: c }))

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <div class="rail">
    <div class="name"><img src="/mark.svg" alt="" width="24" height="24" /> Gerastic</div>
    <nav aria-label="Pages">
      <div v-for="g in rail" :key="g.group">
        <div class="group">{{ g.group }}</div>
        <RouterLink v-for="p in g.pages" :key="p.path" :to="p.path" exact-active-class="here">{{ p.label }}</RouterLink>
      </div>
    </nav>
    <div class="foot">
      <div class="quiet">Search <kbd>/</kbd></div>
      <div class="quiet">Appearance</div>
      <NSelect id="appearance" :value="appearance.choice" :options="choices" size="small" aria-label="Appearance" @update:value="(c: Choice) => appearance.set(c)" />
      <div class="quiet who">{{ session.who?.name }} on {{ session.who?.node }}</div>
      <NButton size="small" class="out" @click="leave">Sign out</NButton>
    </div>
  </div>
</template>

<style scoped>
.rail { border-right: 1px solid var(--line); padding: 16px 8px; display: flex; flex-direction: column; gap: 8px; background: var(--panel); position: sticky; top: 0; height: 100vh; }
.name { display: flex; align-items: center; gap: 8px; font-weight: 600; font-size: 16px; padding: 0 8px 8px; }
.group { color: var(--quiet); font-size: 12px; padding: 12px 8px 4px; }
nav a { display: block; padding: 6px 8px; color: var(--ink); text-decoration: none; border-left: 3px solid transparent; }
nav a:hover { background: var(--ground); }
nav a.here { border-left-color: var(--accent); background: var(--ground); font-weight: 600; }
.foot { margin-top: auto; padding: 0 8px; display: grid; gap: 6px; font-size: 13px; }
.who { overflow-wrap: anywhere; }
kbd { border: 1px solid var(--line); padding: 0 5px; font-family: var(--mono); }
@media (max-width: 700px) {
  .rail { position: static; height: auto; border-right: 0; border-bottom: 1px solid var(--line); }
  nav, nav > div { display: flex; flex-wrap: wrap; align-items: center; }
  .group { padding: 4px 8px; }
  .foot { grid-template-columns: 1fr 1fr; align-items: center; }
}
</style>
