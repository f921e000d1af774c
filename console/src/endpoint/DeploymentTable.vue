<template>
  <div class="sheet table">
    <table data-test="deployments">
      <thead>
        <tr>
          <th>{{ t('deployment.machine') }}</th>
          <th>{{ t('deployment.disk') }}</th>
          <th>{{ t('deployment.configured') }}</th>
          <th>{{ t('deployment.served') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(d, index) in deployments" :key="index" :data-agree="d.agree">
          <th scope="row">
            {{ d.machine }}<span class="soft more">{{ d.server }}</span>
            <span class="more" :class="{ wrong: !d.agree }">{{
              t(d.agree ? 'deployment.agree' : 'deployment.differ')
            }}</span>
          </th>
          <td v-for="(column, number) in columns(d)" :key="number">
            <p
              v-for="leaf in column"
              :key="leaf.place"
              :class="{ other: leaf.certificate !== d.configured?.certificate }"
            >
              <b>{{ leaf.label }}</b>
              <span class="more">{{ t('deployment.issued', { from: leaf.not_before.slice(0, 10),
                until: leaf.not_after.slice(0, 10) }) }}</span>
              <code class="more">{{ leaf.certificate.slice(0, 12) }}…</code>
              <code class="more">{{ leaf.place }}</code>
            </p>
            <span v-if="!column.length" class="soft">{{ t('deployment.none') }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { t } from '../words/t'
import type { Deployment } from '../api/client'

defineProps<{ deployments: Deployment[] }>()

/** What lies on disk, what is configured, and what each address serves. */
function columns(d: Deployment) {
  return [d.disk ? [d.disk] : [], d.configured ? [d.configured] : [], d.served ?? []]
}
</script>

<style scoped>
.table { padding: 4px 0 10px; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 5px 14px; vertical-align: top; }
thead th { color: var(--ink-soft); font-weight: 600; font-size: 12.5px; }
.more { display: block; font-size: 12px; font-weight: 400; }
code { overflow-wrap: anywhere; }
p { margin: 0 0 6px; }
.wrong, .other b { color: var(--faulty); font-weight: 600; }
</style>
