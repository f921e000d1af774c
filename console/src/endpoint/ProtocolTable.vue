<template>
  <p v-if="!answering.length" class="sheet">{{ t('protocol.none') }}</p>
  <div v-else class="sheet table">
    <table>
      <thead>
        <tr>
          <th>{{ t('protocol.version') }}</th>
          <th v-for="observation in answering" :key="observation.address" class="mono">{{ observation.address }}</th>
          <th>{{ t('protocol.expected') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.version" :data-version="row.version">
          <th scope="row">{{ row.version }}</th>
          <td v-for="(cell, index) in row.cells" :key="index" :class="{ wrong: cell.wrong }">
            {{ t(`protocol.${cell.answer}`) }}<span v-if="cell.suite" class="suite soft mono">{{ cell.suite }}</span>
          </td>
          <td class="soft">{{ t(`protocol.${expected[row.version]}`) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import { expected, protocolRows } from './protocol-rows'
import type { Observation } from '../api/client'

const props = defineProps<{ observations: Observation[] }>()
const answering = computed(() => props.observations.filter((o) => o.outcome === 'answered'))
const rows = computed(() => protocolRows(answering.value))
</script>

<style scoped>
.table { padding: 4px 0; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 3px 14px; vertical-align: top; }
thead th { color: var(--ink-soft); font-weight: 600; font-size: 12.5px; }
tbody th { font-weight: 600; white-space: nowrap; }
.suite { display: block; font-size: 11.5px; overflow-wrap: anywhere; }
.wrong { color: var(--faulty); font-weight: 600; }
</style>
