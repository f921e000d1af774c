<template>
  <section v-if="workers">
    <h2>{{ t('workers.title') }}</h2>
    <p class="soft">{{ t('workers.what') }}</p>
    <div class="sheet listing">
      <table v-folding>
        <thead>
          <tr>
            <th>{{ t('workers.name') }}</th>
            <th>{{ t('workers.does') }}</th>
            <th v-if="vantages">{{ t('workers.vantage') }}</th>
            <th>{{ t('workers.host') }}</th>
            <th>{{ t('workers.version') }}</th>
            <th>{{ t('workers.since') }}</th>
            <th>{{ t('workers.visits') }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in workers" :key="one.name" data-test="worker">
            <td>{{ one.name }}</td>
            <td>
              {{ t(does(one)) }}
              <span v-if="one.through" class="soft">{{ t('workers.through', { through: one.through }) }}</span>
            </td>
            <td v-if="vantages">{{ one.vantage }}</td>
            <td>{{ one.host }}</td>
            <td>{{ one.version }}</td>
            <td class="nowrap">{{ moment(one.started) }}</td>
            <td class="nowrap">{{ t('workers.of', { running: one.running, visits: one.visits }) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<script lang="ts" setup>
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { api, result } from '../api/client'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import type { Worker } from '../api/client'

const refresh = 10_000 // milliseconds; a worker that is gone is missing within half a minute
const workers = ref<Worker[]>()
const vantages = computed(() => workers.value?.some((one) => one.vantage))

function does(one: Worker) {
  if (one.kind === 'serve') return 'workers.serve'
  return one.vantage ? 'workers.visitsOnly' : 'workers.work'
}

async function load() {
  const answer = await result(api.GET('/api/v1/workers'))
  if (answer.ok) workers.value = answer.value ?? []
}
let timer: ReturnType<typeof setInterval> | undefined
onMounted(() => {
  void load()
  timer = setInterval(() => void load(), refresh)
})
onUnmounted(() => clearInterval(timer))
</script>
