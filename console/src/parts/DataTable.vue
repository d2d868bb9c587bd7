<script setup lang="ts" generic="Row extends object">
import { NDataTable, type DataTableColumns } from 'naive-ui'
import { computed, h } from 'vue'
import { compare, type Column } from './columns'

// Our look of the library's table: columns say what they hold, slots draw cells, the
// rows keep their order until a head is pressed, and a long table is turned in pages.
const props = defineProps<{
  columns: Column<Row>[]
  rows: Row[]
  rowKey: (row: Row) => string | number
  label: string
  rowClass?: (row: Row) => string
  /** Keys of the rows whose detail is shown below them. */
  opened?: (string | number)[]
  /** Height in CSS pixels from which the rows scroll below the head, and only those in sight are drawn; each column but one needs a width then. */
  tall?: number
}>()
const slots = defineSlots<Record<string, (scope: { row: Row }) => unknown> & { empty?: () => unknown }>()

const perPage = 50
const pages = computed(() => (props.tall === undefined && props.rows.length > perPage ? { pageSize: perPage } : false))

const columns = computed<DataTableColumns<Row>>(() => {
  const drawn = props.columns.map((c) => ({
    key: c.key,
    // A button, for the library's own head does not take the keyboard; its press reaches the head.
    title: c.by ? () => h('button', { type: 'button', class: 'by', title: `Sort by ${c.title}` }, c.title) : c.title,
    width: c.width,
    className: c.look,
    sorter: c.by && ((a: Row, b: Row) => compare(c.by!(a), c.by!(b))),
    cellProps: (row: Row) => ({ title: c.tip?.(row) }),
    render: (row: Row) => (slots[c.key] ? slots[c.key]!({ row }) : (c.text?.(row) ?? '')) as string,
  }))
  if (!slots.detail) return drawn
  return [{ type: 'expand', className: 'opener', renderExpand: (row: Row) => h('div', { class: 'detail' }, slots.detail!({ row }) as never) }, ...drawn]
})
const layout = computed(() => (props.tall === undefined ? 'auto' : 'fixed'))
</script>

<template>
  <NDataTable :columns="columns" :data="rows" :row-key="rowKey" :row-class-name="rowClass" :expanded-row-keys="opened ?? []" :pagination="pages" :max-height="tall" :virtual-scroll="tall !== undefined" :table-layout="layout" :bordered="false" :bottom-bordered="false" size="small" class="data" role="region" :aria-label="label">
    <template #empty><div class="empty"><slot name="empty" /></div></template>
  </NDataTable>
</template>

<style>
.data .by { font: inherit; color: inherit; background: none; border: 0; padding: 0; cursor: pointer; }
.data .number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
.data th.number .n-data-table-th__title-wrapper { justify-content: flex-end; }
.data .n-data-table-th { white-space: nowrap; }
.data .n-data-table-td { word-break: normal; overflow-wrap: break-word; }
.data .n-data-table-th .n-data-table-th__title-wrapper .n-data-table-th__title { flex: none; }
/* The arrow shows where it says something: on the sorted column, and on the one pointed at. It stands between columns. */
.data .n-data-table-th .n-data-table-sorter { width: 0; height: 12px; font-size: 12px; margin: 0; overflow: visible; opacity: 0; }
.data .n-data-table-th--sorting .n-data-table-sorter, .data .n-data-table-th:hover .n-data-table-sorter, .data .n-data-table-th:focus-within .n-data-table-sorter { opacity: 1; }
.data .n-data-table-td--sorting { background: var(--panel); }
.data .n-data-table-td.mono, .data .mono { font-family: var(--mono); font-size: 12px; overflow-wrap: anywhere; }
.data th.mono { font-family: inherit; font-size: 13px; }
.data .moment { white-space: nowrap; font-variant-numeric: tabular-nums; }
.data td.line { font-size: 12px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.data .opener { display: none; }
.data .n-data-table-empty { justify-content: flex-start; padding: 8px; }
.data .empty { color: var(--ink); }
.data .n-data-table__pagination { margin: 8px; }
</style>
