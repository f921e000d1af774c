<template>
  <div class="drawing sheet">
    <p v-if="several" class="soft on">{{ t('chain.on', { addresses: chain.addresses?.join(', ') ?? '' }) }}</p>
    <div class="lanes">
      <div v-for="lane in lanes" :key="lane.title" class="lane" :data-test="lane.name">
        <h3>{{ lane.title }}</h3>
        <ol>
          <li v-for="(link, index) in lane.links" :key="link.sha256 + index" :data-place="link.place">
            <span v-if="index > 0" class="tie soft" aria-hidden="true">│</span>
            <div class="box">
              <b>{{ link.label }}</b>
              <span class="soft">{{ t(`role.${link.role}`) }}</span>
              <span v-if="validity(link)" class="soft dates">{{ validity(link) }}</span>
              <span v-if="link.place !== 'in-place'" class="place">{{ t(`place.${link.place}`) }}</span>
            </div>
          </li>
        </ol>
      </div>
    </div>
    <p class="accepted" :data-accepted="chain.view.complete">{{ accepted }}</p>
  </div>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import type { Chain, ChainLink, Description } from '../api/client'

const props = defineProps<{ chain: Chain; certificates: Description[]; several: boolean }>()
const lanes = computed(() => [
  { name: 'served', title: t('chain.served'), links: props.chain.view.given ?? [] },
  { name: 'right', title: t('chain.right'), links: props.chain.view.right ?? [] },
])

const accepted = computed(() => {
  const { store, complete } = props.chain.view
  if (!store) return t('chain.refused')
  return complete ? t('chain.accepted', { store }) : t('chain.wouldBe', { store })
})

function validity(link: ChainLink): string {
  const certificate = props.certificates.find((c) => c.sha256 === link.sha256)
  return certificate ? t('chain.valid', { from: certificate.not_before.slice(0, 10), until: certificate.not_after.slice(0, 10) }) : ''
}
</script>

<style scoped>
.lanes { display: grid; grid-template-columns: 1fr 1fr; gap: 20px; }
h3 { font-size: 12.5px; margin: 0 0 6px; color: var(--ink-soft); font-weight: 600; }
ol { list-style: none; margin: 0; padding: 0; }
.tie { display: block; text-align: center; line-height: 14px; height: 14px; overflow: hidden; }
.box { border: 1.5px solid var(--ink-soft); border-radius: 3px; padding: 5px 9px; display: grid; }
.box b { overflow-wrap: anywhere; }
.box .soft { font-size: 12px; }
.dates { white-space: nowrap; }
.place { font-size: 12.5px; font-weight: 600; }
[data-place='missing'] .box { border-style: dashed; border-color: var(--faulty); }
[data-place='missing'] .place, [data-place='out-of-order'] .place { color: var(--faulty); }
[data-place='out-of-order'] .box { border-color: var(--faulty); }
[data-place='anchor'] .box { border-style: double; border-width: 3px; padding: 4px 8px; }
[data-place='anchor'] .place { color: var(--ink-soft); font-weight: 400; }
[data-place='not-on-path'] .box, [data-place='anchor-sent'] .box { border-style: dotted; }
.accepted { margin: 10px 0 0; font-size: 13px; }
.accepted[data-accepted='false'] { color: var(--faulty); font-weight: 600; }
.on { margin: 0 0 8px; }
</style>
