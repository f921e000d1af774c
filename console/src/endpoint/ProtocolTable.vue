<template>
  <p v-if="!shown.length" class="sheet">{{ t('protocol.none') }}</p>
  <div v-else class="sheet table">
    <table>
      <thead>
        <tr>
          <th>{{ t('protocol.version') }}</th>
          <th v-for="address in shown" :key="address.address" class="mono">{{ address.address }}</th>
          <th>{{ t('protocol.expected') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(version, row) in shown[0]?.versions" :key="version.name" :data-version="version.name">
          <th scope="row">{{ version.name }}</th>
          <td v-for="address in shown" :key="address.address" :class="{ wrong: address.versions?.[row]?.wrong }">
            {{ t(`protocol.${address.versions?.[row]?.answer ?? 'not-shown'}`)
            }}<span
              v-if="address.versions?.[row]?.suite"
              class="suite soft mono"
              >{{ address.versions[row].suite }}</span
            >
          </td>
          <td class="soft">{{ t(`protocol.${version.should || 'either'}`) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { t } from '../words/t'
import type { Shown } from '../api/client'

/** What each address showed; what is wrong was decided with it. */
defineProps<{ shown: Shown[] }>()
</script>

<style scoped>
.table { padding: 4px 0; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 3px 14px; vertical-align: top; }
thead th { color: var(--ink-soft); font-weight: 600; font-size: 12.5px; }
tbody th { font-weight: 600; white-space: nowrap; }
.suite { display: block; font-size: 11.5px; overflow-wrap: anywhere; }
.wrong { color: var(--faulty); font-weight: 600; }
</style>
