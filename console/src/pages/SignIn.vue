<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAction } from '../action'
import { useSession } from '../session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const token = ref('')
const { busy, wrong, act } = useAction()

const enter = () =>
  act(async () => {
    await session.signIn(token.value)
    const to = String(route.query.to ?? '/')
    await router.push(to.startsWith('/') && !to.startsWith('//') ? to : '/')
  })
</script>

<template>
  <main class="door">
    <form class="panel" @submit.prevent="enter">
      <h1><img src="/mark.svg" alt="" width="28" height="28" /> Gerastic</h1>
      <p class="quiet">Sign in with a token of this node.</p>
      <label for="token">Token</label>
      <NInput v-model:value="token" type="password" :input-props="{ id: 'token', autocomplete: 'current-password' }" placeholder="ger_…" />
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
      <NButton attr-type="submit" type="primary" :loading="busy" :disabled="!token" block>Sign in</NButton>
      <p class="quiet small">The first token is in the node's directory, in <code>admin.token</code>. Another one is made with<br /><code>gerastic token create --name NAME --rights read,purge</code></p>
    </form>
  </main>
</template>

<style scoped>
.door { min-height: 100vh; display: grid; place-items: center; background: var(--ground); color: var(--ink); padding: 16px; }
form { width: min(420px, 100%); display: grid; gap: 8px; padding: 24px; }
h1 { display: flex; align-items: center; gap: 10px; }
p { margin: 0 0 4px; }
.small { font-size: 13px; margin-top: 8px; }
</style>
