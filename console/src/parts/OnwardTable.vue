<script setup lang="ts">
import type { OnwardTarget } from '../api'
import { count, moment, utc } from '../format'
import { figure, type Column } from './columns'
import DataTable from './DataTable.vue'

// The caches and services beyond that are told of purges.
defineProps<{ targets: OnwardTarget[] }>()

const wants = { all: 'every purge', tags: 'purges of tags', urls: 'purges of URLs' }
const columns: Column<OnwardTarget>[] = [
  { key: 'name', title: 'target', by: (o) => o.name, text: (o) => o.name },
  { key: 'state', title: 'state', by: (o) => o.state, text: (o) => (o.state === 'ok' ? 'ok' : `failing: ${o.last_error}`) },
  figure('behind', 'purges not told', (o) => o.behind, count),
  { key: 'told', title: 'told last', by: (o) => o.last_at, text: (o) => (o.last_at ? moment(o.last_at) : 'never yet'), tip: (o) => (o.last_at ? utc(o.last_at) : ''), look: 'moment' },
  { key: 'when', title: 'is told', by: (o) => o.when, text: (o) => wants[o.when] },
  { key: 'url', title: 'where', by: (o) => o.url, text: (o) => o.url, look: 'mono' },
]
</script>

<template>
  <DataTable label="Told onward" :columns="columns" :rows="targets" :row-key="(o) => o.name" />
</template>
