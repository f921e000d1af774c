<template>
  <div class="sheet coverage" data-test="coverage">
    <table>
      <thead>
        <tr>
          <th>{{ t('coverage.needed') }}</th>
          <th v-for="(column, index) in certificates" :key="column.sha256">
            {{ certificates.length > 1 ? `${index + 1}: ` : '' }}{{ column.label }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="need in coverage.needed" :key="need.name">
          <th scope="row">{{ need.name }}</th>
          <td v-for="(column, index) in certificates" :key="column.sha256">
            <span v-if="entryOf(need, index)" class="good">· {{ entryOf(need, index) }}</span>
            <template v-else>
              <span class="bad">■ {{ t('coverage.no') }}</span>
              <span v-if="missOf(need, index)" class="soft"> {{ missOf(need, index) }}</span>
            </template>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-for="column in certificates.filter((c) => c.unneeded?.length)" :key="column.sha256" class="soft note">
      {{ t('coverage.unneeded', { names: few(column.unneeded ?? []) }) }}
    </p>
    <p v-if="!coverage.covered" class="soft note">
      {{ t('coverage.proposal', { names: few(coverage.proposal.plain ?? []) }) }}
    </p>
  </div>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import type { Coverage } from '../api/client'

const props = defineProps<{ coverage: Coverage }>()
type Need = NonNullable<Coverage['needed']>[number]

const certificates = computed(() => props.coverage.certificates ?? [])
const entryOf = (need: Need, index: number) => need.covered?.find((c) => c.certificate === index)?.entry
function missOf(need: Need, index: number) {
  const miss = need.missed?.find((c) => c.certificate === index)
  return miss && [miss.entry && `${miss.entry}:`, miss.reason && `${miss.reason}.`, miss.remedy].filter(Boolean).join(' ')
}
const shown = 8
const few = (list: string[]) =>
  list.length > shown ? `${list.slice(0, shown).join(', ')} ${t('expiry.more', { n: list.length - shown })}` : list.join(', ')
</script>

<style scoped>
.coverage { overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; vertical-align: baseline; padding: 3px 12px 3px 0; overflow-wrap: anywhere; }
thead th { font-size: 12.5px; color: var(--ink-soft); font-weight: 600; }
tbody th { font-weight: 500; }
.good { color: var(--sound); }
.bad { color: var(--faulty); font-weight: 600; margin-right: 0.5em; }
tr > th:first-child { min-width: 150px; }
.note { margin: 8px 0 0; font-size: 12.5px; }
</style>
