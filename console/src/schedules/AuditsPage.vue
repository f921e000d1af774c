<template>
  <h1>{{ t('audits.title') }}</h1>
  <p v-if="failure" class="sheet" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
  <section>
    <h2>{{ t('schedules.title') }}</h2>
    <p class="soft">{{ t('schedules.what') }}</p>
    <p v-if="schedules && !schedules.length" class="sheet" data-test="none">{{ t('schedules.none') }}</p>
    <div v-else-if="schedules" class="sheet listing">
      <table v-folding>
        <thead>
          <tr>
            <th>{{ t('schedules.name') }}</th>
            <th>{{ t('schedules.when') }}</th>
            <th>{{ t('schedules.of') }}</th>
            <th>{{ t('schedules.next') }}</th>
            <th>{{ t('schedules.last') }}</th>
            <th><span class="hidden-text">{{ t('people.actions') }}</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in schedules" :key="one.id" data-test="schedule">
            <td>{{ one.name }}</td>
            <td>{{ one.words }}</td>
            <td>
              {{ one.label ? `${one.label}:` : t('schedules.all') }}
              <span class="soft">{{ endpointsWords(one.endpoints) }}</span>
            </td>
            <td class="nowrap" data-test="next">{{ nextWords(one) }}</td>
            <td>
              <template v-if="one.audit">{{ auditWords(one.audit) }}</template>
              <p v-if="one.skipped" class="skipped">
                {{ t('schedules.skipped', { when: moment(one.last), why: one.skipped }) }}
              </p>
            </td>
            <td class="actions">
              <template v-if="session.may('auditor')">
                <el-button size="small" data-test="change" @click="edited = one">{{ t('schedules.change') }}</el-button>
                <el-button size="small" data-test="pause" @click="handlePause(one)">
                  {{ one.paused ? t('schedules.resume') : t('schedules.pause') }}
                </el-button>
                <el-popconfirm
                  :title="t('schedules.sure', { name: one.name })"
                  :confirm-button-text="t('people.remove')"
                  :cancel-button-text="t('people.keep')"
                  width="260"
                  @confirm="handleRemove(one.id)"
                >
                  <template #reference>
                    <el-button size="small" data-test="remove">{{ t('people.remove') }}</el-button>
                  </template>
                </el-popconfirm>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="session.may('auditor')">
      <el-button data-test="add" @click="edited = {}">{{ t('schedules.add') }}</el-button>
    </p>
    <ScheduleForm v-if="edited" :schedule="edited" @done="handleDone" @leave="edited = undefined" />
  </section>
  <section v-if="list">
    <h2>{{ t('audits.latest') }}</h2>
    <p v-if="!list.length" class="sheet">{{ t('audit.none') }}</p>
    <div v-else class="sheet listing">
      <table v-folding>
        <thead>
          <tr>
            <th>{{ t('audits.number') }}</th>
            <th>{{ t('audits.began') }}</th>
            <th>{{ t('audits.by') }}</th>
            <th>{{ t('schedules.of') }}</th>
            <th>{{ t('audits.result') }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in list" :key="one.id" data-test="audit">
            <td>{{ one.id }}</td>
            <td class="nowrap">{{ moment(one.created_at) }}</td>
            <td>{{ one.schedule ? t('audits.bySchedule', { name: one.schedule }) : one.by }}</td>
            <td class="nowrap">{{ endpointsWords(one.endpoints) }}</td>
            <td>{{ auditWords(one) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
  <WorkersTable />
</template>

<script lang="ts" setup>
import { onMounted, ref, watch } from 'vue'
import { api, asJSON, ifMatch, result } from '../api/client'
import WorkersTable from '../audits/WorkersTable.vue'
import { auditWords } from '../audits/audit-words'
import { useAudits } from '../audits/audits'
import { vFolding } from '../look/folding'
import { useSession } from '../people/session'
import { moment, t } from '../words/t'
import ScheduleForm from './ScheduleForm.vue'
import type { Audit, Failure, Result, Schedule } from '../api/client'

const session = useSession()
const audits = useAudits()
const schedules = ref<Schedule[]>()
const list = ref<Audit[]>()
const edited = ref<Partial<Schedule>>()
const failure = ref<Failure>()

async function load() {
  const [known, latest] = await Promise.all([
    result(api.GET('/api/v1/schedules')),
    result(api.GET('/api/v1/audits', { params: { query: { limit: 20 } } })),
  ])
  if (known.ok) schedules.value = known.value ?? []
  else failure.value = known.failure
  if (latest.ok) list.value = latest.value.items ?? []
  else failure.value = latest.failure
}
onMounted(load)
watch(() => [audits.current?.state, audits.ended], load)

const endpointsWords = (n: number) => (n === 1 ? t('audits.endpoint') : t('audits.endpoints', { n }))

function nextWords(one: Schedule): string {
  if (one.paused) return t('schedules.paused')
  return one.next ? moment(one.next) : t('schedules.never')
}

async function done(answer: Result<unknown>) {
  failure.value = answer.ok ? undefined : answer.failure
  await load()
}

async function handleDone() {
  edited.value = undefined
  await load()
}

async function handlePause({ id, tag, name, every, at, days, zone, quiet, spread, label, paused }: Schedule) {
  const body = { name, every, at, days, zone, quiet, spread, label, paused: !paused }
  const params = { path: { id }, header: ifMatch(tag) }
  await done(await result(api.PUT('/api/v1/schedules/{id}', { params, body })))
}

async function handleRemove(id: number) {
  await done(await result(api.DELETE('/api/v1/schedules/{id}', { params: { path: { id } }, ...asJSON })))
}
</script>

<style scoped>
section { margin-bottom: 22px; }
.skipped { margin: 2px 0 0; font-size: 12.5px; color: var(--at-risk); }
.actions { white-space: nowrap; text-align: right; }
</style>
