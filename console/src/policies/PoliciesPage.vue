<template>
  <h1>{{ t('app.policies') }}</h1>
  <p class="soft">
    {{ t('policies.what') }} <router-link :to="{ name: 'waivers' }">{{ t('policies.waivers') }}</router-link>
  </p>
  <p v-if="failure" class="sheet" role="alert">{{ t('failure.title') }}: {{ failure.words }}</p>
  <div v-else-if="policies" class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('policies.name') }}</th>
          <th>{{ t('policies.version') }}</th>
          <th>{{ t('policies.endpoints') }}</th>
          <th>{{ t('policies.holdings') }}</th>
          <th>{{ t('policies.about') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="policy in policies" :key="policy.name" data-test="policy">
          <td><router-link :to="{ name: 'policy', params: { name: policy.name } }">{{ policy.name }}</router-link></td>
          <td class="nowrap">{{ policy.builtin ? t('policies.builtin') : policy.version }}</td>
          <td>{{ policy.endpoints }}</td>
          <td>{{ policy.holdings }}</td>
          <td>{{ policy.about }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { onMounted, ref } from 'vue'
import { api, result } from '../api/client'
import { vFolding } from '../look/folding'
import { t } from '../words/t'
import type { Failure, Policy } from '../api/client'

const policies = ref<Policy[]>()
const failure = ref<Failure>()

onMounted(async () => {
  const answer = await result(api.GET('/api/v1/policies'))
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) policies.value = answer.value ?? []
})
</script>
