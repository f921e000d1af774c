<template>
  <div class="sheet table">
    <table data-test="audiences">
      <thead>
        <tr>
          <th>{{ t('audience.store') }}</th>
          <th>{{ t('audience.trusted') }}</th>
          <th>{{ t('audience.paths') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="audience in chain.audiences ?? []" :key="audience.store" :data-store="audience.store">
          <th scope="row">
            {{ audience.store
            }}<span class="soft more">{{ t(audience.required ? 'audience.required' : 'audience.alternative') }}</span>
          </th>
          <td :class="{ wrong: !audience.trusted }">
            {{ t(audience.trusted ? 'audience.yes' : 'audience.no')
            }}<span
              v-if="audience.until"
              class="more"
              >{{ t('chain.until', { when: audience.until.slice(0, 10) }) }}</span
            >
            <span v-if="audience.reason" class="more reason">{{ audience.reason }}</span>
          </td>
          <td>
            <p v-for="(path, index) in audience.paths ?? []" :key="index" class="path">
              <b :class="{ wrong: !path.valid }">{{ path.valid ? '✓' : '✗' }}</b> {{ route(path) }}
              <span class="soft more">{{ words(path) }}</span>
            </p>
            <p v-if="audience.more" class="soft path">{{ t('audience.more', { count: String(audience.more) }) }}</p>
            <p v-if="audience.gave_up" class="soft path">{{ t('audience.gaveUp') }}</p>
          </td>
        </tr>
      </tbody>
    </table>
    <template v-if="chain.revocation?.length">
      <h3>{{ t('revocation.title') }}</h3>
      <dl data-test="revocation">
        <template v-for="state in chain.revocation" :key="state.certificate">
          <dt>{{ state.label }}</dt>
          <dd :data-state="state.state">{{ state.words }}</dd>
        </template>
      </dl>
    </template>
  </div>
</template>

<script lang="ts" setup>
import { t } from '../words/t'
import type { Chain, Description, PathView } from '../api/client'

const props = defineProps<{ chain: Chain; certificates: Description[] }>()

function route(path: PathView): string {
  return (path.certificates ?? []).map((id) => props.certificates.find((c) => c.sha256 === id)?.label ?? id.slice(0,
    12)).join(' ← ')
}

function words(path: PathView): string {
  if (!path.valid) return path.reason ?? ''
  const parts = [path.borrowed ? t('audience.borrowed') : '',
    path.ends ? t('audience.ends', { when: path.ends.slice(0, 10), what: path.ends_with ?? '' }) : '']
  return parts.filter(Boolean).join('; ')
}
</script>

<style scoped>
.table { padding: 4px 0 10px; overflow-x: auto; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 5px 14px; vertical-align: top; }
thead th { color: var(--ink-soft); font-weight: 600; font-size: 12.5px; }
tbody th { font-weight: 600; white-space: nowrap; }
td:nth-child(2) { min-width: 150px; }
.more { display: block; font-size: 12px; font-weight: 400; }
.reason { max-width: 26em; color: var(--ink); }
.wrong { color: var(--faulty); font-weight: 600; }
.path { margin: 0 0 4px; }
h3 { font-size: 12.5px; color: var(--ink-soft); margin: 10px 14px 4px; }
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 2px 16px; margin: 0 14px; }
dd { margin: 0; }
dd[data-state='revoked'], dd[data-state='bad-answer'], dd[data-state='stale'] {
  color: var(--faulty); font-weight: 600;
}
</style>
