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
    <router-link
      v-if="query.owner"
      :to="{ name: 'findings', query: { owner: query.owner } }"
      data-test="owners-findings"
      >{{ t('estate.ownersFindings') }}</router-link
    >
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
  <RowList
    v-if="loaded && items.length"
    :columns="layout"
    :rows="items"
    row-key="id"
    :label="t('app.estate')"
    :question="JSON.stringify(query)"
    @near="handleNear"
  >
    <template v-for="column in columns" :key="column" #[`head-${column}`]>
      <button
        type="button"
        class="sort"
        :data-test="`sort-${column}`"
        :aria-label="sortWords(column)"
        @click="sortBy(column)"
      >
        {{ t(titles[column]) }}<span aria-hidden="true">{{ arrow(column) }}</span>
      </button>
    </template>
    <template #head-codes>{{ t('estate.findings') }}</template>
    <template #head-about>{{ t('estate.about') }}</template>
    <template #head-owner>{{ t('estate.owner') }}</template>
    <template #verdict="{ row }"><VerdictMark :verdict="row.verdict" :provisional="row.provisional" /></template>
    <template #target="{ row }">
      <router-link :to="{ name: 'endpoint', params: { id: row.id } }">{{ row.endpoint }}</router-link>
    </template>
    <template #not_after="{ row }">
      <span :class="{ expired: expired(row) }">{{ daysLeft(row) }}</span>
    </template>
    <template #issuer="{ row }">{{ row.issuer || '–' }}</template>
    <template #codes="{ row }"><span class="mono">{{ row.codes?.join(', ') }}</span></template>
    <template #about="{ row }"><span class="soft">{{ row.labels?.about }}</span></template>
    <template #owner="{ row }">
      <button
        v-if="row.owner"
        type="button"
        class="owner"
        data-test="owner"
        :aria-label="t('estate.onlyOwner', { owner: row.owner })"
        @click="query.owner = row.owner"
      >
        {{ row.owner }}
      </button>
    </template>
  </RowList>
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
import RowList from '../look/RowList.vue'
import VerdictMark from '../look/VerdictMark.vue'
import { verdicts } from '../look/verdicts'
import { useSession } from '../people/session'
import { daysUntil, t } from '../words/t'
import BulkForm from './BulkForm.vue'
import { columns, pageSize, useEndpoints } from './use-endpoints'
import type { Column, Query } from './use-endpoints'
import type { Endpoint } from '../api/client'
import type { RowColumn } from '../look/row-list'
import type { WordKey } from '../words/en'

const titles: Record<Column, WordKey> = { verdict: 'estate.verdict', target: 'estate.endpoint',
  not_after: 'estate.daysLeft', issuer: 'estate.issuer' }

const codesOf = (row: Endpoint) => row.codes?.join(', ')
const layout: RowColumn<Endpoint>[] = [
  { key: 'verdict', width: 132 },
  { key: 'target', width: 280, grow: 2, hint: (row) => row.endpoint },
  { key: 'not_after', width: 96, title: t('estate.daysLeft') },
  { key: 'issuer', width: 180, grow: 1, title: t('estate.issuer'), hint: (row) => row.issuer },
  { key: 'codes', width: 200, grow: 3, plain: true, hint: codesOf },
  { key: 'about', width: 180, grow: 2, plain: true, hint: (row) => row.labels?.about },
  { key: 'owner', width: 112, plain: true, hint: (row) => row.owner },
]

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

/** The heading's name says how the list is sorted, for those who do not see the arrow. */
function sortWords(column: Column): string {
  if (query.sort !== column) return t(titles[column])
  return t(query.desc ? 'estate.sortedDown' : 'estate.sortedUp', { column: t(titles[column]) })
}
// A list that shows all that it has asks for more by itself; on a phone somebody asks.
function handleNear() {
  if (next.value) void more()
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
.sort { font: inherit; color: inherit; background: none; border: 0; padding: 3px 0; cursor: pointer; }
.sort:hover { color: var(--ink); }
.search { width: 220px; }
.beside { text-decoration: none; }
.actions { display: flex; flex-wrap: wrap; gap: 8px; }
.actions .el-button { margin-left: 0; }
.owner { font: inherit; color: var(--accent); background: none; border: 0; padding: 0; white-space: nowrap; }
.owner:hover { text-decoration: underline; cursor: pointer; }
.expired { color: var(--faulty); font-weight: 600; }
</style>
