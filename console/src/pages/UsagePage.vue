<script setup lang="ts">
import { BarChart } from 'echarts/charts'
import { GridComponent, LegendScrollComponent, TooltipComponent } from 'echarts/components'
import * as echarts from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { amount } from '@/allowances'
import { decimals, seconds } from '@/format'
import { useSession } from '@/session'

echarts.use([BarChart, GridComponent, LegendScrollComponent, TooltipComponent, SVGRenderer])

const route = useRoute()
const session = useSession()
const router = useRouter()
const theme = useTheme()
const day = (back: number) => new Date(Date.now() - back * 86_400_000).toISOString().slice(0, 10)
const start = (name: string, otherwise: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : otherwise)
const from = ref(start('from', day(13)))
const to = ref(start('to', day(0)))
const by = ref(start('by', 'app,engine'))
const columns = ['app', 'key', 'engine', 'voice', 'model', 'route', 'language', 'work', 'day', 'hour']
const first = computed({
  get: () => by.value.split(',')[0] ?? 'app',
  set: (name) => (by.value = [name, ...by.value.split(',').slice(1).filter((other) => other !== name)].join(',')),
})
const second = computed({
  get: () => by.value.split(',')[1] ?? 'none',
  set: (name) => (by.value = name === 'none' ? first.value : `${first.value},${name}`),
})
const usage = ref<Schemas['UsageList']>()
const daily = ref<Schemas['UsageList']>()
const credits = ref<Schemas['CreditAnswer'][]>([])
const error = ref<unknown>()
const box = ref<HTMLElement>()
let chart: echarts.ECharts | undefined

async function load() {
  void router.replace({ query: { from: from.value, to: to.value, by: by.value } })
  try {
    const query = { from: from.value, to: to.value }
    ;[usage.value, daily.value] = await Promise.all([
      ask(api.GET('/api/v1/usage', { params: { query: { ...query, by: by.value } } })),
      ask(api.GET('/api/v1/usage', { params: { query: { ...query, by: 'day,engine' } } })),
    ])
    if (session.role !== 'app-owner') credits.value = (await ask(api.GET('/api/v1/credits'))).items
    error.value = undefined
    await nextTick()
    draw()
  } catch (caught) {
    error.value = caught
  }
}

function draw() {
  if (!box.value || !daily.value) return
  chart ??= echarts.init(box.value, undefined, { renderer: 'svg' })
  const days: string[] = []
  for (let at = Date.parse(from.value); at <= Date.parse(to.value); at += 86_400_000) days.push(new Date(at).toISOString().slice(0, 10))
  const engines = [...new Set(daily.value.items.map((one) => one.group[1] ?? ''))]
  const value = (date: string, engine: string) => Number(daily.value?.items.find((one) => one.group[0] === date && one.group[1] === engine)?.cost.amount ?? 0)
  const current = theme.global.current.value
  const ink = String(current.colors['on-surface'])
  const palette = current.dark
    ? ['#6FC3BC', '#F0905A', '#8CCB82', '#E0B45A', '#9DB4E8', '#E98A9A']
    : ['#1F6F6B', '#B44A14', '#37722F', '#8A6106', '#3F5F9E', '#9C2438']
  const symbols = ['rect', 'circle', 'triangle', 'diamond', 'pin', 'arrow']
  const currency = daily.value.items[0]?.cost.currency ?? 'EUR'
  chart.setOption(
    {
      animation: false,
      color: palette,
      textStyle: { fontFamily: 'Atkinson Hyperlegible, sans-serif', color: ink },
      grid: { left: 84, right: 12, top: 40, bottom: 28 },
      legend: { type: 'scroll', top: 0, right: 0, left: 96, textStyle: { color: ink }, data: engines.map((name, n) => ({ name, icon: symbols[n % symbols.length] })) },
      tooltip: { trigger: 'axis', valueFormatter: (number: unknown) => `${Number(number).toFixed(6)} ${currency}` },
      xAxis: { type: 'category', data: days, axisLabel: { color: ink, formatter: (text: string) => text.slice(5) }, axisLine: { lineStyle: { color: ink } } },
      yAxis: { type: 'value', name: currency, nameTextStyle: { color: ink }, axisLabel: { color: ink }, splitLine: { lineStyle: { color: `${ink}22` } } },
      series: engines.map((engine) => ({ name: engine, type: 'bar', stack: 'cost', barMaxWidth: 42, data: days.map((date) => value(date, engine)) })),
    },
    true,
  )
}

const resize = () => chart?.resize()
watch([from, to, by], load)
watch(() => theme.global.name.value, draw)
onMounted(() => {
  window.addEventListener('resize', resize)
  void load()
})
onBeforeUnmount(() => {
  window.removeEventListener('resize', resize)
  chart?.dispose()
})
const digits = computed(() => decimals([...(usage.value?.items ?? []).map((row) => row.cost), ...(usage.value?.total ?? [])]))

/** The dispatches of a row, where its columns are filters of dispatches. */
function dispatchesOf(group: string[]) {
  const query = Object.fromEntries((usage.value?.by ?? []).map((name, at) => [name, group[at] ?? '']).filter(([name]) => ['app', 'engine', 'work'].includes(String(name))))
  return Object.keys(query).length ? { path: '/dispatches', query } : undefined
}

/** Saves the table as comma-separated values. */
async function save() {
  try {
    const query = new URLSearchParams({ from: from.value, to: to.value, by: by.value })
    const rows = await (await fetchRaw(`/api/v1/usage?${query}`, { headers: { Accept: 'text/csv' } })).blob()
    const link = document.createElement('a')
    link.href = URL.createObjectURL(rows)
    link.download = `usage-${from.value}-${to.value}.csv`
    link.click()
    URL.revokeObjectURL(link.href)
  } catch (caught) {
    error.value = caught
  }
}
/** Median and 95th percentile. */
const latency = (row: Schemas['UsageAnswer']) => (row.latency_median == null ? '–' : `${Math.round(row.latency_median)} / ${Math.round(row.latency_p95 ?? 0)} ms`)

/** When a credit ends, is used or renews. */
function outlook(credit: Schemas['CreditAnswer']) {
  if (credit.days_left != null && credit.days_left <= 0) return '▲ over'
  const used = credit.used_on ? `▲ used on ${credit.used_on} at this pace` : ''
  const ends = credit.until ? `ends ${credit.until}` : ''
  const days = credit.days_left == null ? '' : `${credit.days_left} days left`
  return [used, ends, days].filter(Boolean).join(', ') || (credit.renews ? `renews ${credit.renews.slice(0, 10)}` : '')
}
const total = (pick: (one: Schemas['UsageAnswer']) => number) => (usage.value?.items ?? []).reduce((sum, one) => sum + pick(one), 0)
</script>

<template>
  <div class="page">
    <h1>Usage</h1>
    <p class="lead quiet">Usage and cost by day (UTC), from the ledger.</p>
    <div class="filters">
      <v-text-field v-model="from" type="date" label="From" />
      <v-text-field v-model="to" type="date" label="To" />
      <v-select v-model="first" :items="columns" label="Group by" data-test="first" />
      <v-select v-model="second" :items="['none', ...columns.filter((name) => name !== first)]" label="Then by" data-test="second" />
      <v-btn variant="tonal" class="align-self-center justify-self-start" data-test="csv" @click="save">Save CSV</v-btn>
    </div>
    <ProblemNote :error="error" />
    <v-card class="pa-4">
      <div ref="box" class="chart" role="img" aria-label="Cost by day, stacked by engine; the table below has the numbers" />
    </v-card>
    <template v-if="usage">
      <p v-if="usage.sample" class="quiet mt-4">Usage from before the start of the demo is sample data: it was made up, and no engine was called.</p>
      <p v-if="!usage.items.length" class="mt-6">No usage on these days. Make a first request in the <router-link to="/">sound check</router-link>.</p>
      <v-table v-else class="table mt-6">
        <thead><tr><th v-for="name in usage.by" :key="name" scope="col" class="head">{{ name }}</th><th scope="col" class="number wide">Requests</th><th scope="col" class="number wide">Failures</th><th scope="col" class="number wide">Characters</th><th scope="col" class="number wide">Duration</th><th scope="col" class="number wide" title="Until the first audio, or until the transcript: median and 95th percentile">Latency</th><th scope="col" class="number">Cost</th></tr></thead>
        <tbody>
          <tr v-for="row in usage.items" :key="row.group.join('/') + row.cost.currency" data-test="usage-row"><td v-for="(value, index) in row.group" :key="index"><router-link v-if="index === 0 && dispatchesOf(row.group)" :to="dispatchesOf(row.group)!" :aria-label="`Dispatches: ${row.group.join(', ')}`">{{ value || '–' }}</router-link><template v-else>{{ value || '–' }}</template></td><td class="number wide">{{ row.requests }}<div v-if="row.recalled" class="quiet small">+ {{ row.recalled }} recalled</div></td><td class="number wide">{{ row.failures || '–' }}<div v-if="row.fallbacks" class="quiet small">{{ row.fallbacks }} {{ row.fallbacks === 1 ? 'fallback' : 'fallbacks' }}</div></td><td class="number wide">{{ row.characters }}</td><td class="number wide">{{ seconds(row.duration) }}</td><td class="number wide">{{ latency(row) }}</td><td class="number"><MoneyAmount :amount="row.cost" :digits="digits" /></td></tr>
        </tbody>
        <tfoot>
          <tr v-for="(sum, index) in usage.total" :key="sum.currency"><th scope="row" :colspan="usage.by.length">Total</th><td class="number wide">{{ index ? '' : total((one) => one.requests) }}</td><td class="number wide">{{ index ? '' : total((one) => one.failures) || '–' }}</td><td class="number wide">{{ index ? '' : total((one) => one.characters) }}</td><td class="number wide">{{ index ? '' : seconds(total((one) => one.duration)) }}</td><td class="wide" /><td class="number"><strong><MoneyAmount :amount="sum" :digits="digits" /></strong></td></tr>
        </tfoot>
      </v-table>
      <p v-if="usage.total.length > 1 && usage.converted" class="mt-2">In all, by the rates of the days: <strong><MoneyAmount :amount="usage.converted" :digits="digits" /></strong></p>
      <template v-if="credits.length">
        <h2>Credits of engines</h2>
        <ul class="boxes credits">
          <li v-for="credit in credits" :key="`${credit.engine}/${credit.name}`" data-test="credit">
            <div><router-link :to="`/engines/${credit.engine}`">{{ credit.engine }}</router-link>, {{ credit.name }}<div class="quiet small">{{ amount(credit.credit) }}{{ credit.per === 'total' ? '' : ` per ${credit.per}` }}</div></div>
            <div><v-progress-linear :model-value="credit.percent" :color="credit.percent >= 90 ? 'warning' : 'primary'" height="8" rounded :aria-label="`${credit.percent} % used`" /><div class="small">{{ amount(credit.left) }} left, {{ credit.percent }} % used</div></div>
            <div class="small">{{ outlook(credit) }}</div>
          </li>
        </ul>
      </template>
    </template>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(150px, 185px));
  gap: 12px;
  margin-bottom: 18px;
}

.chart {
  height: 260px;
}

.head {
  text-transform: capitalize;
}

tfoot th {
  text-align: left;
  padding: 0 16px;
}

tfoot td,
tfoot th {
  border-top: 2px solid rgba(var(--v-border-color), 0.4);
  height: 48px;
}

.credits > li {
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.4fr) minmax(0, 1.2fr);
  align-items: center;
  gap: 8px 24px;
}

.small {
  font-size: 0.86rem;
}

@media (max-width: 700px) {
  .credits > li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
