<template>
  <div class="sheet table">
    <table data-test="vantages">
      <thead>
        <tr>
          <th />
          <th v-for="column in columns" :key="column.name" scope="col">{{ column.name }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, index) in columns[0]?.rows" :key="row.title" :class="{ differ: differs(index) }">
          <th scope="row">{{ row.title }}</th>
          <td v-for="column in columns" :key="column.name">
            <p v-for="line in column.rows[index]?.lines" :key="line">{{ line }}</p>
            <span v-if="!column.rows[index]?.lines.length" class="soft">{{ t('vantages.unknown') }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { t } from '../words/t'
import type { VantageColumn } from './vantages'

const props = defineProps<{ columns: VantageColumn[] }>()

/** Addresses may be others elsewhere: only what is known of certificates and versions is marked. */
function differs(index: number) {
  const known = props.columns.map((c) => c.rows[index]?.lines.join('\n') ?? '').filter(Boolean)
  return index > 0 && new Set(known).size > 1
}
</script>

<style scoped>
.table { padding: 4px 0 10px; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 5px 14px; vertical-align: top; }
thead th, tbody th { color: var(--ink-soft); font-weight: 600; font-size: 12.5px; }
td { overflow-wrap: anywhere; }
p { margin: 0; }
.differ td { color: var(--at-risk); font-weight: 600; }
</style>
