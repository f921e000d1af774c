<template>
  <div class="tools">
    <h1>{{ t('app.estate') }}</h1>
    <div class="filters">
      <button
        v-for="verdict in verdicts"
        :key="verdict"
        type="button"
        class="filter"
        :data-test="`filter-${verdict}`"
        :aria-pressed="query.verdict === verdict"
        :aria-label="t('estate.filter', { verdict: t(`verdict.${verdict}`) })"
        @click="handleFilter(verdict)"
      >
        <VerdictMark :verdict="verdict" /> <b>{{ counts[verdict] ?? 0 }}</b>
      </button>
    </div>
    <el-input
      v-model="query.search"
      class="search"
      clearable
      :placeholder="t('estate.search')"
      :aria-label="t('estate.search')"
      data-test="search"
    />
    <el-tag v-if="query.owner" closable data-test="of-owner" @close="query.owner = ''">{{
      t('estate.ofOwner', { owner: query.owner })
    }}</el-tag>
    <div class="actions">
      <router-link class="el-button beside" :to="{ name: 'proposals' }" data-test="proposals">{{
        t('proposals.title')
      }}</router-link>
      <el-button v-if="session.may('auditor')" data-test="add-endpoint" @click="adding = true">{{
        t('form.open')
      }}</el-button>
      <el-button v-if="session.may('auditor')" data-test="many" @click="changing = true">{{
        t('many.open')
      }}</el-button>
    </div>
  </div>
  <EndpointForm
    v-if="adding"
    @saved="(one) => $router.push({ name: 'endpoint', params: { id: one.id } })"
    @leave="adding = false"
  />
  <BulkForm v-if="changing" :of="query" @done="handleChanged" @leave="changing = false" />

  <p v-if="failure" class="sheet" role="alert">{{ t('failure.title') }}: {{ failure.words }}</p>
  <div v-if="loaded && items.length" class="sheet table">
    <table class="folding">
      <thead>
        <tr>
          <th v-for="column in columns" :key="column" :aria-sort="ariaSort(column)" :class="column">
            <button type="button" :data-test="`sort-${column}`" @click="sortBy(column)">
              {{ t(titles[column]) }}<span aria-hidden="true">{{ arrow(column) }}</span>
            </button>
          </th>
          <th class="plain">{{ t('estate.findings') }}</th>
          <th class="plain">{{ t('estate.about') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="endpoint in items" :key="endpoint.id">
          <td><VerdictMark :verdict="endpoint.verdict" :provisional="endpoint.provisional" /></td>
          <td>
            <router-link :to="{ name: 'endpoint', params: { id: endpoint.id } }">{{ endpoint.endpoint }}</router-link>
          </td>
          <td class="not_after" :class="{ expired: expired(endpoint) }" :data-title="t('estate.daysLeft')">
            {{ daysLeft(endpoint) }}
          </td>
          <td :data-title="t('estate.issuer')">{{ endpoint.issuer || '–' }}</td>
          <td class="mono codes">{{ endpoint.codes?.join(', ') }}</td>
          <td class="soft">
            {{ endpoint.labels?.about }}
            <button
              v-if="endpoint.owner"
              type="button"
              class="owner"
              data-test="owner"
              :aria-label="t('estate.onlyOwner', { owner: endpoint.owner })"
              @click="query.owner = endpoint.owner"
            >
              {{ endpoint.owner }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="loaded" class="sheet">{{ total ? t('estate.none') : t('estate.empty') }}</p>
  <p v-if="loaded && items.length" class="foot soft">
    {{ t('estate.count', { shown: items.length, total }) }}
    <el-button v-if="next" size="small" data-test="more" @click="more">{{ t('estate.more') }}</el-button>
  </p>
</template>

<script lang="ts" setup>
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useAudits } from '../audits/audits'
import EndpointForm from '../endpoint/EndpointForm.vue'
import VerdictMark from '../look/VerdictMark.vue'
import { verdicts } from '../look/verdicts'
import { useSession } from '../people/session'
import { daysUntil, t } from '../words/t'
import BulkForm from './BulkForm.vue'
import { columns, pageSize, useEndpoints } from './use-endpoints'
import type { Column, Query } from './use-endpoints'
import type { Endpoint } from '../api/client'
import type { WordKey } from '../words/en'

const titles: Record<Column, WordKey> = { verdict: 'estate.verdict', target: 'estate.endpoint',
  not_after: 'estate.daysLeft', issuer: 'estate.issuer' }

const audits = useAudits()
const session = useSession()
const changing = ref(false)
const adding = ref(false)
const { query, items, counts, next, loaded, failure, load, more, sortBy } = useEndpoints()
const total = computed(() => Object.values(counts.value).reduce((sum, n) => sum + n, 0))

onMounted(load)
watch(() => audits.ended, load)

// What an audit has judged so far is shown now and then, unless somebody has read on beyond the first page.
const lookAgain = 2000 // milliseconds
let timer: ReturnType<typeof setTimeout> | undefined
watch(
  () => audits.current?.judged,
  () => {
    timer ??= setTimeout(() => {
      timer = undefined
      if (audits.running && items.value.length <= pageSize) void load()
    }, lookAgain)
  },
)
onUnmounted(() => clearTimeout(timer))

async function handleChanged() {
  changing.value = false
  await load()
}

function ariaSort(column: Column) {
  if (query.sort !== column) return 'none'
  return query.desc ? 'descending' : 'ascending'
}
function arrow(column: Column): string {
  if (query.sort !== column) return ''
  return query.desc ? ' ↓' : ' ↑'
}
function handleFilter(verdict: Query['verdict']) {
  query.verdict = query.verdict === verdict ? '' : verdict
}
function expired(endpoint: Endpoint): boolean {
  return endpoint.not_after !== undefined && Date.parse(endpoint.not_after) < Date.now()
}
function daysLeft(endpoint: Endpoint): string {
  if (!endpoint.not_after) return '–'
  return expired(endpoint) ? t('estate.expired') : String(daysUntil(endpoint.not_after))
}
</script>

<style scoped>
.table { padding: 0; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 4px 12px; border-bottom: 1px solid var(--line); vertical-align: baseline; }
tbody tr:last-child td { border-bottom: 0; }
tbody tr:hover { background: var(--wash); }
th { font-weight: 600; font-size: 12.5px; color: var(--ink-soft); white-space: nowrap; }
th button { font: inherit; color: inherit; background: none; border: 0; padding: 3px 0; cursor: pointer; }
th button:hover { color: var(--ink); }
.search { width: 220px; }
.beside { text-decoration: none; }
.actions { display: flex; flex-wrap: wrap; gap: 8px; }
.actions .el-button { margin-left: 0; }
.owner { font: inherit; color: var(--accent); background: none; border: 0; padding: 0; white-space: nowrap; }
.owner:hover { text-decoration: underline; cursor: pointer; }
.not_after { text-align: right; }
.expired { color: var(--faulty); font-weight: 600; }
</style>
