<script setup lang="ts">
import { darkTheme, NConfigProvider, NMessageProvider } from 'naive-ui'
import { computed, watchEffect } from 'vue'
import { useRoute } from 'vue-router'
import { useAppearance } from './appearance'
import { overrides, properties } from './colours'
import QuickSearch from './parts/QuickSearch.vue'
import Rail from './parts/Rail.vue'
import { useSession } from './session'
import { router } from './router'

const appearance = useAppearance()
appearance.follow()
const session = useSession()
const route = useRoute()
const theme = computed(() => (appearance.isDark ? darkTheme : null))
watchEffect(() => {
  for (const [name, value] of Object.entries(properties(appearance.palette))) document.documentElement.style.setProperty(name, value)
  document.documentElement.style.colorScheme = appearance.isDark ? 'dark' : 'light'
  document.body.style.background = appearance.palette.ground
})
watchEffect(() => {
  if (session.asked && !session.who && !route.meta.open) void router.push({ path: '/sign-in', query: { to: route.fullPath } })
})
</script>

<template>
  <NConfigProvider :theme="theme" :theme-overrides="overrides(appearance.palette)" inline-theme-disabled>
    <NMessageProvider placement="bottom-right">
      <div v-if="route.meta.open"><RouterView /></div>
      <div v-else-if="session.who" class="frame">
        <a class="skip" href="#content">To the content</a>
        <Rail />
        <main id="content" class="content"><RouterView /></main>
        <QuickSearch />
      </div>
    </NMessageProvider>
  </NConfigProvider>
</template>
