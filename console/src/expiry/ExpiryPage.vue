<template>
  <div class="tools">
    <h1>{{ t('expiry.title') }}</h1>
    <div class="filters">
      <button
        v-for="state in states"
        :key="state"
        type="button"
        class="filter"
        :data-test="`filter-${state}`"
        :aria-pressed="filters.state === state"
        @click="filters.state = filters.state === state ? '' : state"
      >
        <DueMark :state="state" /> <b>{{ counts[state] ?? 0 }}</b>
      </button>
    </div>
    <el-input
      v-model="filters.q"
      class="search"
      clearable
      :placeholder="t('expiry.search')"
      :aria-label="t('expiry.search')"
      data-test="search"
    />
  </div>
  <div class="range">
    <label>{{ t('expiry.kindLabel') }}
      <select v-model="filters.kind" data-test="kind">
        <option value="">{{ t('expiry.allKinds') }}</option>
        <option v-for="kind in kinds" :key="kind" :value="kind">{{ t(`expiry.kind.${kind}`) }}</option>
      </select>
    </label>
    <label>{{ t('expiry.from') }} <input v-model="filters.from" type="date" data-test="from" /></label>
    <label>{{ t('expiry.until') }} <input v-model="filters.until" type="date" data-test="until" /></label>
    <el-button v-if="narrowed" size="small" data-test="clear" @click="clear">{{ t('expiry.clear') }}</el-button>
    <a class="calendar" :href="calendar">{{ t('expiry.calendar') }}</a>
  </div>

  <p v-if="failure" class="sheet" role="alert">{{ t('failure.title') }}: {{ failure.words }}</p>
  <section v-if="timeline" class="sheet" :aria-label="t('expiry.timeline')">
    <ExpiryTimeline :timeline="timeline" @choose="choose" />
  </section>

  <RowList
    v-if="items.length"
    class="dues"
    :columns="layout"
    :rows="items"
    row-key="sha256"
    :label="t('expiry.title')"
    :question="JSON.stringify(filters)"
    :lines="2"
    :most="432"
    data-test="dues"
    @near="next && more()"
  >
    <template #state="{ row }"><DueMark :state="row.state" /></template>
    <template #ends="{ row }">{{ row.until?.slice(0, 10) ?? '–' }}</template>
    <template #left="{ row }">{{ row.until ? daysWords(daysUntil(row.until)) : '–' }}</template>
    <template #renew="{ row }">{{ row.renew?.slice(0, 10) ?? '–' }}</template>
    <template #what="{ row }">
      {{ row.label }} <span v-if="row.kind !== 'leaf'" class="soft">{{ t(`expiry.kind.${row.kind}`) }}</span>
    </template>
    <template #issuer="{ row }">{{ row.issuer }}</template>
    <template #where="{ row }">
      <template v-for="(place, index) in row.places" :key="place.name">
        <template v-if="index">, </template>
        <router-link :to="placeOf(place)">{{ place.name }}</router-link>
      </template>
      <span v-if="row.more" class="soft"> {{ t('expiry.more', { n: row.more }) }}</span>
    </template>
  </RowList>
  <p v-else-if="loaded" class="sheet">{{ t('expiry.none') }}</p>
  <p v-if="items.length" class="foot soft">
    {{ t('expiry.count', { shown: items.length, total }) }}
    <el-button v-if="next" size="small" data-test="more" @click="more">{{ t('estate.more') }}</el-button>
  </p>

  <section v-if="forecast" class="forecast" :aria-label="t('forecast.title')">
    <h2>{{ t('forecast.title') }}</h2>
    <p class="said">
      <span data-test="doubles">{{ doublesWords }}</span>
      <label>{{ t('forecast.minutes') }}
        <input v-model.number="filters.minutes" type="number" min="1" max="100000" data-test="minutes" />
      </label>
    </p>
    <div class="columns">
      <div class="sheet"><ForecastChart :forecast="forecast" /></div>
      <div class="sheet listing months">
        <table v-folding>
          <thead>
            <tr>
              <th>{{ t('forecast.month') }}</th>
              <th class="number">{{ t('forecast.today') }}</th>
              <th class="number">{{ t('forecast.coming') }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="month in forecast.months" :key="month.month">
              <td>{{ month.month }}</td>
              <td class="number">{{ month.today }} <span class="soft">{{ hours(month.today_hours) }}</span></td>
              <td class="number">{{ month.coming }} <span class="soft">{{ hours(month.coming_hours) }}</span></td>
            </tr>
          </tbody>
        </table>
      </div>
    </div>
  </section>
</template>

<script lang="ts" setup>
import { computed, defineAsyncComponent, onMounted, watch } from 'vue'
import { useRouter } from 'vue-router'
import { useAudits } from '../audits/audits'
import { vFolding } from '../look/folding'
import RowList from '../look/RowList.vue'
import { daysUntil, daysWords, t } from '../words/t'
import DueMark from './DueMark.vue'
import ExpiryTimeline from './ExpiryTimeline.vue'
import { states } from './states'
import { kinds, useExpiry } from './use-expiry'
import type { Due, DueDay, DuePlace } from '../api/client'
import type { RowColumn } from '../look/row-list'

/** The library for charts is large, and only this page has one. */
const ForecastChart = defineAsyncComponent(() => import('./ForecastChart.vue'))

const column = (key: string, heading: string, width: number, grow = 0): RowColumn<Due> => ({
  key, heading, title: heading, width, grow,
})
const layout: RowColumn<Due>[] = [
  column('state', t('expiry.state'), 142),
  column('ends', t('expiry.ends'), 112),
  column('left', t('expiry.left'), 120),
  column('renew', t('expiry.renew'), 112),
  { ...column('what', t('expiry.what'), 215, 1), hint: (row) => row.label },
  { ...column('issuer', t('estate.issuer'), 170), hint: (row) => row.issuer },
  { ...column('where', t('expiry.where'), 240, 2), hint: (row) => row.places?.map((one) => one.name).join(', ') },
]

const audits = useAudits()
const router = useRouter()
const { filters, items, counts, total, next, timeline, forecast, failure, loaded, load, more } = useExpiry()

onMounted(load)
watch(() => audits.ended, load)

const narrowed = computed(() => Boolean(filters.q || filters.kind || filters.state || filters.from || filters.until))
function clear() {
  Object.assign(filters, { q: '', kind: '', state: '', from: '', until: '' })
}
/** A lone certificate leads to where it is; several are listed. */
function choose(day: DueDay) {
  if (day.count === 1 && day.place) router.push(placeOf(day.place))
  else Object.assign(filters, { from: day.day, until: day.day, kind: day.kind })
}
function placeOf(place: DuePlace) {
  return place.endpoint_id
    ? { name: 'endpoint', params: { id: place.endpoint_id } }
    : { name: 'holding', params: { id: place.holding_id ?? 0 } }
}
const calendar = computed(() => `/api/v1/expiry/calendar${filters.q ? `?q=${encodeURIComponent(filters.q)}` : ''}`)
const hours = (n: number) => t('forecast.hours', { n: n.toFixed(1) })
const doublesWords = computed(() => {
  const { doubles_today: today, doubles_coming: coming } = forecast.value ?? {}
  const on = (moment: string | undefined) => (moment ? moment.slice(0, 10) : t('forecast.never'))
  return t('forecast.doubles', { today: on(today), coming: on(coming) })
})
</script>

<style scoped>
.range { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 18px; margin-bottom: 12px; }
.range label, .said label { display: inline-flex; gap: 6px; align-items: center; color: var(--ink-soft); }
select, input[type='date'], input[type='number'] {
  font: inherit; color: var(--ink); background: var(--sheet); border: 1px solid var(--line); border-radius: 3px;
  padding: 3px 6px; color-scheme: light dark;
}
input[type='number'] { width: 84px; }
.calendar { margin-left: auto; }
.listing { margin-top: 12px; max-height: 420px; overflow-y: auto; }
th { font-weight: 600; font-size: 12.5px; color: var(--ink-soft); white-space: nowrap; position: sticky; top: 0;
  background: var(--sheet); }
.dues { margin-top: 12px; }
.number { text-align: right; white-space: nowrap; }
.number .soft { display: inline-block; min-width: 64px; }
.forecast { margin-top: 22px; }
.said { display: flex; flex-wrap: wrap; gap: 8px 24px; align-items: center; margin: 0 0 10px; }
.columns { display: grid; grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr); gap: 16px; align-items: start; }
.months { margin-top: 0; max-height: 332px; }
@media (max-width: 900px) { .columns { grid-template-columns: minmax(0, 1fr); } }
</style>
