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

  <div v-if="items.length" class="sheet listing" data-test="dues">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('expiry.state') }}</th>
          <th>{{ t('expiry.ends') }}</th>
          <th>{{ t('expiry.left') }}</th>
          <th>{{ t('expiry.renew') }}</th>
          <th>{{ t('expiry.what') }}</th>
          <th>{{ t('estate.issuer') }}</th>
          <th>{{ t('expiry.where') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="due in items" :key="due.sha256">
          <td><DueMark :state="due.state" /></td>
          <td class="day">{{ due.until?.slice(0, 10) ?? '–' }}</td>
          <td class="left">{{ due.until ? daysWords(daysUntil(due.until)) : '–' }}</td>
          <td class="day">{{ due.renew?.slice(0, 10) ?? '–' }}</td>
          <td class="what">
            {{ due.label }} <span v-if="due.kind !== 'leaf'" class="soft">{{ t(`expiry.kind.${due.kind}`) }}</span>
          </td>
          <td>{{ due.issuer }}</td>
          <td class="places">
            <template v-for="(place, index) in due.places" :key="place.name">
              <template v-if="index">, </template>
              <router-link :to="placeOf(place)">{{ place.name }}</router-link>
            </template>
            <span v-if="due.more" class="soft"> {{ t('expiry.more', { n: due.more }) }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
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
import { daysUntil, daysWords, t } from '../words/t'
import DueMark from './DueMark.vue'
import ExpiryTimeline from './ExpiryTimeline.vue'
import { states } from './states'
import { kinds, useExpiry } from './use-expiry'
import type { DueDay, DuePlace } from '../api/client'

/** The library for charts is large, and only this page has one. */
const ForecastChart = defineAsyncComponent(() => import('./ForecastChart.vue'))

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
.day, .left { white-space: nowrap; }
.what, .places { overflow-wrap: anywhere; }
.what { min-width: 215px; }
.number { text-align: right; white-space: nowrap; }
.number .soft { display: inline-block; min-width: 64px; }
.forecast { margin-top: 22px; }
.said { display: flex; flex-wrap: wrap; gap: 8px 24px; align-items: center; margin: 0 0 10px; }
.columns { display: grid; grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr); gap: 16px; align-items: start; }
.months { margin-top: 0; max-height: 332px; }
@media (max-width: 900px) { .columns { grid-template-columns: minmax(0, 1fr); } }
</style>
