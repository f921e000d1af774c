<template>
  <PeopleNav />
  <p class="soft">{{ t('activity.what') }}</p>
  <p v-if="failure" class="sheet" role="alert">{{ t('failure.title') }}: {{ failure.words }}</p>
  <div v-else class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('activity.when') }}</th>
          <th>{{ t('activity.who') }}</th>
          <th>{{ t('activity.from') }}</th>
          <th>{{ t('activity.did') }}</th>
          <th>{{ t('activity.object') }}</th>
          <th>{{ t('activity.changed') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="entry in items" :key="entry.id" data-test="activity">
          <td class="nowrap">{{ moment(entry.at) }}</td>
          <td>{{ entry.who }} <span class="soft">{{ entry.through }}</span></td>
          <td class="mono nowrap">{{ entry.address }}</td>
          <td class="nowrap">{{ entry.operation }}{{ outcome(entry.status) }}</td>
          <td>{{ entry.object }}</td>
          <td>
            <span v-for="line in changesOf(entry.before, entry.after)" :key="line" class="change">{{ line }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-if="next" class="foot">
    <el-button data-test="more" @click="load(next)">{{ t('estate.more') }}</el-button>
  </p>
</template>

<script lang="ts" setup>
import { onMounted, ref } from 'vue'
import { api, result } from '../api/client'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import PeopleNav from './PeopleNav.vue'
import { changesOf } from './changes'
import type { Activity, Failure } from '../api/client'

const items = ref<Activity[]>([])
const next = ref('')
const failure = ref<Failure>()

async function load(cursor: string) {
  const answer = await result(api.GET('/api/v1/activity', { params: { query: { cursor, limit: 100 } } }))
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  items.value.push(...(answer.value.items ?? []))
  next.value = answer.value.next ?? ''
}
onMounted(() => load(''))

function outcome(status: number): string {
  if (status === 0) return ` (${t('activity.open')})`
  return status < 400 ? '' : ` (${t('activity.refused', { status })})`
}
</script>

<style scoped>
.change { display: block; overflow-wrap: anywhere; }
</style>
