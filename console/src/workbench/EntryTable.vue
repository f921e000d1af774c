<template>
  <section :aria-label="t('workbench.each')">
    <h2>{{ t('workbench.each') }}</h2>
    <div class="sheet table">
      <table data-test="entries">
        <thead>
          <tr>
            <th>{{ t('workbench.where') }}</th>
            <th>{{ t('workbench.what') }}</th>
            <th>{{ t('workbench.whose') }}</th>
            <th>{{ t('workbench.valid') }}</th>
            <th>{{ t('certificate.key') }}</th>
            <th>{{ t('estate.issuer') }}</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="(row, index) in entries" :key="index">
            <tr>
              <td class="file">
                <button
                  v-if="row.entry.fields?.length"
                  type="button"
                  class="more"
                  :aria-expanded="open.has(index)"
                  :aria-label="t('workbench.fields')"
                  @click="toggle(index)"
                >
                  {{ open.has(index) ? '▾' : '▸' }}
                </button>
                {{ row.path }}<template v-if="row.entry.line">:{{ row.entry.line }}</template>
                <span v-if="row.entry.field || row.entry.alias" class="soft">
                  {{ row.entry.field }} {{ row.entry.alias }}</span
                >
              </td>
              <td>
                {{ row.entry.what }}
                <span v-for="remark in row.entry.remarks" :key="remark" class="remark">{{ remark }}</span>
              </td>
              <td>
                {{ row.entry.label }}<span v-if="others(row.entry)" class="soft others">{{ others(row.entry) }}</span>
              </td>
              <td class="dates">{{ span(row.entry) }}</td>
              <td class="dates">{{ row.entry.key }}</td>
              <td>{{ row.entry.issuer }}</td>
            </tr>
            <tr v-if="open.has(index)">
              <td colspan="6">
                <dl>
                  <template v-for="(field, number) in row.entry.fields" :key="number">
                    <dt>{{ field.name }}</dt>
                    <dd>
                      <div v-for="value in field.values" :key="value">{{ value }}</div>
                    </dd>
                  </template>
                  <template v-for="anomaly in row.entry.anomalies" :key="anomaly.offset">
                    <dt class="bad">{{ t('workbench.anomaly') }}</dt>
                    <dd>
                      {{ t('workbench.atByte', { n: anomaly.offset }) }}, {{ anomaly.field }}:
                      {{ anomaly.text }} ({{ anomaly.source }})
                    </dd>
                  </template>
                </dl>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
  </section>
</template>

<script lang="ts" setup>
import { reactive } from 'vue'
import { t } from '../words/t'
import type { Entry } from './sorter'

defineProps<{ entries: { path: string; entry: Entry }[] }>()
const open = reactive(new Set<number>())

function toggle(index: number) {
  if (!open.delete(index)) open.add(index)
}
function others(entry: Entry): string {
  return entry.names?.filter((n) => n !== entry.label).join(', ') ?? ''
}
function span(entry: Entry): string {
  if (!entry.not_before) return ''
  return [entry.not_before, entry.not_after].map((moment) => moment?.slice(0, 10)).join(' – ')
}
</script>

<style scoped>
.others { margin-left: 0.5em; }
.file { min-width: 150px; overflow-wrap: anywhere; }
.table { padding: 0; overflow: auto; max-height: 420px; }
table { border-collapse: collapse; width: 100%; }
th, td {
  text-align: left; padding: 4px 12px; border-bottom: 1px solid var(--line); vertical-align: baseline;
  overflow-wrap: anywhere;
}
th {
  font-weight: 600; font-size: 12.5px; color: var(--ink-soft); white-space: nowrap; position: sticky; top: 0;
  background: var(--sheet);
}
tbody tr:last-child td { border-bottom: 0; }
.dates { white-space: nowrap; }
.more { background: none; border: 0; color: var(--accent); cursor: pointer; padding: 0 4px 0 0; font: inherit; }
.remark { display: block; font-size: 12.5px; color: var(--at-risk); }
dl { display: grid; grid-template-columns: 240px minmax(0, 1fr); gap: 3px 12px; margin: 4px 0; font-size: 13px; }
dt { color: var(--ink-soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.bad { color: var(--faulty); }
</style>
