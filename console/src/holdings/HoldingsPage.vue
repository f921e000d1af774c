<template>
  <h1>{{ t('app.holdings') }}</h1>
  <p class="soft">{{ t('holdings.what') }}</p>
  <p v-if="failure" class="sheet" role="alert">{{ t('failure.title') }}: {{ failure.words }}</p>
  <p v-else-if="holdings && !holdings.length" class="sheet">{{ t('holdings.none') }}</p>
  <div v-else-if="holdings" class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('estate.verdict') }}</th>
          <th>{{ t('holdings.machine') }}</th>
          <th>{{ t('holdings.files') }}</th>
          <th>{{ t('holdings.sent') }}</th>
          <th>{{ t('estate.findings') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="holding in holdings" :key="holding.id">
          <td><VerdictMark :verdict="holding.verdict" /></td>
          <td><router-link :to="{ name: 'holding', params: { id: holding.id } }">{{ holding.name }}</router-link></td>
          <td>{{ holding.files }}</td>
          <td class="nowrap">{{ moment(holding.sent_at) }}</td>
          <td class="mono">{{ holding.codes?.join(', ') }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { onMounted, ref, watch } from 'vue'
import { api, result } from '../api/client'
import { useAudits } from '../audits/audits'
import VerdictMark from '../look/VerdictMark.vue'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import type { Failure, Holding } from '../api/client'

const audits = useAudits()
const holdings = ref<Holding[]>()
const failure = ref<Failure>()

async function load() {
  const answer = await result(api.GET('/api/v1/holdings'))
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) holdings.value = answer.value ?? []
}
onMounted(load)
watch(() => audits.ended, load)
</script>
