<template>
  <div class="wire">
    <div class="sheet table" data-test="suites">
      <p v-if="several" class="soft on mono">{{ shown.address }}</p>
      <table>
        <thead>
          <tr>
            <th>{{ t('wire.suite') }}</th>
            <th v-for="version in accepted" :key="version.name">{{ version.name }}</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in shown.suites" :key="row.name" :class="{ wrong: row.wrong }">
            <th scope="row" class="mono">{{ row.name }}</th>
            <td v-for="(place, index) in row.places" :key="index">{{ place || '·' }}</td>
            <td class="remark">{{ row.remark ? t(`remark.${row.remark}`) : '' }}</td>
          </tr>
          <tr>
            <th scope="row">{{ t('wire.order') }}</th>
            <td v-for="version in accepted" :key="version.name">
              {{ version.order ? t(`order.${version.order}`) : '–' }}
            </td>
            <td></td>
          </tr>
          <tr v-if="accepted.some((version) => version.cut)" class="wrong" data-test="cut">
            <th scope="row">{{ t('wire.unfinished') }}</th>
            <td v-for="version in accepted" :key="version.name">{{ version.cut ? '■' : '·' }}</td>
            <td class="remark">{{ t('wire.more') }}</td>
          </tr>
        </tbody>
      </table>
      <dl>
        <template v-for="fact in facts" :key="fact.title + fact.value">
          <dt>{{ fact.title }}</dt>
          <dd>{{ fact.value }}</dd>
        </template>
      </dl>
    </div>
    <div v-if="shown.settings?.length" class="sheet table" data-test="settings">
      <table>
        <thead>
          <tr>
            <th>{{ t('wire.setting') }}</th>
            <th>{{ t('wire.is') }}</th>
            <th>{{ t('protocol.expected') }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in shown.settings" :key="row.name" :data-setting="row.name" :class="{ wrong: row.wrong }">
            <th scope="row">{{ t(`setting.${row.name as 'heartbeat'}`) }}</th>
            <td>{{ t(`answer.${row.is}`) }}</td>
            <td class="soft">{{ row.should ? t(`answer.${row.should}`) : t('wire.either') }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import type { Observation, Shown } from '../api/client'

const props = defineProps<{ observation: Observation; shown: Shown; several: boolean }>()
const ends: Record<string, 'wire.cutTime' | 'wire.cutDoor'> = {
  'time-over': 'wire.cutTime', 'stopped-answering': 'wire.cutDoor',
}
/** Why the visit ended early, in words. */
function ended(code?: string): string {
  return code ? t(ends[code] ?? 'wire.cutLimit') : ''
}
/** The list, with a mark where not everything was asked. */
function whole(list: string[] | null | undefined, cut?: { code: string }): string {
  const text = list?.join(', ') ?? ''
  return cut?.code ? `${text} (${t('wire.unfinished').toLowerCase()})` : text
}
const accepted = computed(() => props.shown.versions?.filter((version) => version.answer === 'accepted') ?? [])
const facts = computed(() => {
  const { groups, possession, settings, http } = props.observation
  return [
    { title: t('wire.cut'), value: ended(props.observation.cut?.code) },
    { title: t('wire.groups'), value: whole(groups?.accepted, groups?.cut) },
    { title: t('wire.finite'), value: groups?.finite_field ? t('wire.bits',
      { bits: String(groups.finite_field.bits), name: groups.finite_field.name ?? '' }) : '' },
    { title: t('wire.possession'), value: possession ? t(`possession.${possession}`) : '' },
    { title: t('wire.signed'), value: whole(settings?.signature_schemes, settings?.signature_schemes_cut) ||
      (settings?.signature_scheme ?? '') },
    { title: t('wire.alpn'), value: settings?.alpn ?? '' },
    ...(props.shown.timestamps ?? []).map((one) => ({ title: t('wire.timestamp'),
      value: t('wire.timestampFrom', { at: one.at.slice(0, 10), log: one.log.slice(0, 8), from: t(`timestamp.${one.from}`) }) })),
    { title: t('wire.strict'), value: http?.status ? http.strict_transport_security || t('answer.no') : '' },
  ].filter((fact) => fact.value)
})
</script>

<style scoped>
.wire { display: grid; gap: 14px; }
.table { padding: 4px 0 10px; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 3px 8px; vertical-align: top; }
th:first-child { padding-left: 14px; }
thead th { color: var(--ink-soft); font-weight: 600; font-size: 12.5px; white-space: nowrap; }
tbody th { font-weight: 400; }
tbody th.mono { overflow-wrap: anywhere; }
.remark { font-size: 12.5px; }
tbody th.mono { font-size: 11.5px; }
.wrong th, .wrong td { color: var(--faulty); font-weight: 600; }
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 2px 16px; margin: 8px 12px 0; }
dt { color: var(--ink-soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.on { margin: 6px 12px 0; }
</style>
