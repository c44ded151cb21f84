<template>
  <div class="page">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span><span>Handbook</span><span class="sp" />
      <TextLine
        class="find"
        stays
        :value="query"
        placeholder="Search the handbook"
        label="Search the handbook"
        @input="(v) => (query = v)"
      />
    </header>
    <main class="book">
      <nav class="toc">
        <a v-for="g in groups.filter((x) => x.entries.length)" :key="g.title" :href="`#${g.title}`"
          >{{ g.title }} <span class="muted">{{ g.entries.length }}</span></a
        ><a href="#Ways">Ways of working</a
        ><a v-if="stories.length" href="#Demos"
          >Demo studies <span class="muted">{{ stories.length }}</span></a
        >
      </nav>
      <section v-if="stories.length" id="Demos">
        <h2>Demo studies</h2>
        <article v-for="d in stories" :key="d.id" class="entry" :data-testid="`story-${d.id}`">
          <h3>
            {{ d.name }} <span class="muted">{{ d.note }}</span>
          </h3>
          <template v-for="(p, i) in paragraphs(d.how)" :key="i">
            <ol v-if="p.list">
              <li v-for="(t, k) in p.items" :key="k">
                <component :is="w.tag" v-for="(w, n) in words(t)" :key="n">{{ w.text }}</component>
              </li>
            </ol>
            <p v-else>
              <component :is="w.tag" v-for="(w, n) in words(p.items[0])" :key="n">{{ w.text }}</component>
            </p>
          </template>
        </article>
      </section>
      <section v-if="!query" id="Ways">
        <h2>Ways of working with runs</h2>
        <article class="entry">
          <p>
            <b>Look before it costs.</b> Beside Run stands what the run would take: time, memory, and in its tooltip
            disk, told from the frames of the preview or of the version before. A preview has larger voxels or fewer
            particles, and the same motion on the whole.
          </p>
          <p>
            <b>Stop early, keep, go on.</b> Frames are shown as they come. Stop keeps them; Run goes on from the last
            one, also after the machine was switched off.
          </p>
          <p>
            <b>Look into a gas.</b> Select its lane: the probe then stands in what the run holds. With smoke shown it
            draws the velocity as barbs, with a channel shown it slices that channel.
          </p>
          <p>
            <b>Compare (C).</b> Runs, or channels of one, side by side: turn one picture and all turn, one range maps
            them all, the third picture is the difference of the first two, and below are the numbers. The address keeps
            what is seen, frame, range and camera included: send it. Quantities of different units may stand side by
            side, but are not subtracted.
          </p>
          <p>
            <b>Pour, let it settle, then push.</b> A liquid lane begins with Domain, Source, Gravity and Surface: run
            that, and see where it comes to rest. Give the Source an end, the floor some stick (thick liquid) or
            friction (thin). Then add Push with a constant lane first, to see that it acts where you think, put curl
            noise in its place, let it evolve, and take away an axis. Switch a push off and on: each version keeps its
            frames, and Compare puts them side by side.
          </p>
          <p>
            <b>Thick and thin in one.</b> A field in place of the Source's viscosity is looked up where and when each
            particle is born, and stays with it. Spread it in its logarithm (remap to the exponents, then the formula
            exp(f)): from 0.01 to 1 reads better than from 0 to 1.
          </p>
          <p>
            <b>A surface costs no run.</b> It is worked out from the frames: another voxel size, smoothing or look is
            there at once, and it leaves with velocities for motion blur. Drops of single particles are not on it; show
            them as foam, or let another lane be born from the foam.
          </p>
          <p>
            <b>Pile, draw, let slump.</b> A grain lane begins with Domain, Source, Gravity and Friction: run that, and
            see that the heap holds its slope. The spacing is the quality dial; a preview has an eighth of the grains.
            Then Push along a curve by a spline flow, with Only where set to noise that is remapped until it is nearly
            on or off and evolves: what is held rises, what is let go slumps. A Speed limit well below what the field
            asks keeps the drawn sand a body.
          </p>
          <p>
            <b>Seed, spread, keep off.</b> A growth lane begins with Domain, Seed shape and Spread: run that, and it is
            a ball. Give the speed a field with a high contrast, and it grows in tongues; the borders of cells make
            veins. Only where, set to a mask near a surface, keeps it on that. Carry along curl noise, only outward,
            draws arms. The box costs nothing, voxels half as large take eight times the time.
          </p>
          <p>
            <b>What has grown is a shape.</b> Mesh of a run is the surface of a lane on each frame: let it emit, deform
            it, collide with it. For a smooth distance to steer by, read the distance by From run and make a Surface of
            a field of that.
          </p>
          <p>
            <b>Points that stay.</b> Scatter at once, At least apart and Evened out, then Ride on the shape: each keeps
            its place on the surface while that moves or is deformed. On lines of another lane new points are born on
            each frame; Carry with half of the field lets them lag half way behind.
          </p>
          <p>
            <b>Slow motion.</b> The clock's <i>× slow</i> shows the same seconds in more frames, for flows of every
            kind. Grains and fields go the same ways; only more of them are seen.
          </p>
          <p>
            <b>Keep swirls.</b> Smoke that drifts apart too softly has lost its swirls to the grid. Before you refine,
            switch Keep swirls on in its Domain: twice the time, where voxels half as large take eight to sixteen times.
            Curl up adds to swirls what was not there; this only keeps what was.
          </p>
          <p>
            <b>Times and frames.</b> Times are in seconds, so that another frame rate changes none. Where a time is a
            moment, the frame stands beside it, and <i class="num">f 25</i> may be typed.
          </p>
          <p>
            <b>Refine.</b> A gas lane that begins with Detail carries finer smoke by the motion of another gas. Change
            the sources' look, the eddies or the fading there, and the coarse run stays.
          </p>
        </article>
      </section>
      <section v-for="g in groups.filter((x) => x.entries.length)" :id="g.title" :key="g.title">
        <h2>{{ g.title }}</h2>
        <article v-for="e in g.entries" :id="`${e.lane ?? 'shape'}-${e.id}`" :key="e.id" class="entry">
          <h3>
            {{ e.label }} <span class="muted">{{ e.yields }}</span>
          </h3>
          <img
            v-if="pictures[e.id] && e.lane === 'field'"
            class="shot"
            :src="pictures[e.id]"
            :alt="`A slice of a field after ${e.label}`"
          />
          <p v-for="(p, i) in e.doc.replace(/`/g, '').split('\n\n')" :key="i">{{ p }}</p>
          <p v-if="e.formula" class="num">{{ e.formula }}</p>
          <p v-if="e.mistake" class="mistake"><b>Often goes wrong</b> {{ e.mistake }}</p>
          <table>
            <tbody>
              <tr v-for="p in e.params" :key="p.name">
                <th>{{ p.label }}</th>
                <td>{{ p.help }}</td>
                <td class="num">{{ range(p) }}</td>
              </tr>
            </tbody>
          </table>
        </article>
      </section>
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed, nextTick, onMounted, ref } from 'vue'
import { call } from '../api/client'
import type { Entry, ParamSpec, ShapeEntry } from '../api/model'
import TextLine from '../controls/TextLine.vue'
import { loadPictures, pictures } from '../lib/examples'
import { useCatalogue } from '../stores/catalogue'
import { rawWords } from '../score/words'

const listed = useCatalogue()
const catalogue = computed(() => listed.all)
const demos = ref<{ id: string; name: string; note: string; how: string }[]>([])
const query = ref('')
const stories = computed(() =>
  demos.value.filter((d) => `${d.name} ${d.how}`.toLowerCase().includes(query.value.toLowerCase())),
)
/** The little that how-to texts use: paragraphs, numbered lists, **bold** and *step* names. */
function paragraphs(text: string): { list: boolean; items: string[] }[] {
  return text
    .trim()
    .split(/\n\n+/)
    .map((block) => {
      const list = /^\d+\. /.test(block)
      const items = list
        ? block.split(/\n(?=\d+\. )/).map((t) => t.replace(/^\d+\. /, '').replace(/\s*\n\s*/g, ' '))
        : [block.replace(/\n/g, ' ')]
      return { list, items }
    })
}
const words = (text: string) =>
  text
    .split(/(\*\*[^*]+\*\*|\*[^*]+\*)/)
    .filter(Boolean)
    .map((t) =>
      t.startsWith('**')
        ? { tag: 'b', text: t.slice(2, -2) }
        : t.startsWith('*')
          ? { tag: 'i', text: t.slice(1, -1) }
          : { tag: 'span', text: t },
    )
const fits = (e: ShapeEntry) =>
  `${e.label} ${e.yields} ${e.doc} ${e.mistake}`.toLowerCase().includes(query.value.toLowerCase())
const groups = computed<{ title: string; entries: (ShapeEntry & Partial<Entry>)[] }[]>(() => [
  {
    title: 'Starts',
    entries: catalogue.value.steps.filter((e) => e.lane === 'field' && e.kind === 'start' && fits(e)),
  },
  {
    title: 'Changes',
    entries: catalogue.value.steps.filter((e) => e.lane === 'field' && e.kind === 'change' && fits(e)),
  },
  { title: 'Joins', entries: catalogue.value.steps.filter((e) => e.lane === 'field' && e.kind === 'join' && fits(e)) },
  ...catalogue.value.kinds.map((k) => ({
    title: k.label,
    entries: catalogue.value.steps.filter((e) => e.lane === k.id && fits(e)),
  })),
  { title: 'Shapes', entries: catalogue.value.shapes.filter(fits) },
])
function range(p: ParamSpec) {
  const [a, b] = p.range
  const limits = a !== null || b !== null ? ` (${a ?? '…'} to ${b ?? '…'})` : ''
  return p.required ? 'to be chosen' : rawWords(p.default, p, null) + limits
}
onMounted(async () => {
  document.title = 'Handbook · Errant Gust'
  await listed.load()
  demos.value = await call('GET', '/demos')
  await loadPictures()
  await nextTick()
  document.getElementById(location.hash.slice(1))?.scrollIntoView() // once pictures have their sizes
})
</script>

<style scoped>
.book {
  max-width: 980px;
}
.toc {
  display: flex;
  gap: 16px;
  flex-wrap: wrap;
}
.shot {
  float: right;
  width: 96px;
  height: 96px;
  margin: 0 0 6px 14px;
  border: 1px solid var(--line);
}
.entry {
  overflow: hidden;
}
ol {
  padding-left: 20px;
  margin: 4px 0 8px;
}
li {
  margin-bottom: 2px;
}
p.mistake {
  border-left: 2px solid rgb(var(--v-theme-warning));
  padding-left: 8px;
  color: inherit;
}
h2 {
  font-size: 18px;
  margin: 14px 0 6px;
}
.entry {
  padding: 10px 14px;
  margin-bottom: 10px;
}
h3 {
  font-size: 14px;
}
h3 span {
  font-weight: 400;
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 12px;
}
th {
  text-align: left;
  font-weight: 600;
  width: 140px;
  padding: 2px 0;
  vertical-align: top;
}
td:last-child {
  text-align: right;
  white-space: nowrap;
  padding-left: 12px;
}
tr {
  border-top: 1px solid var(--soft);
}
</style>
