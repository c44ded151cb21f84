<template>
  <section id="Exact">
    <h2>How exact it is</h2>
    <article class="entry" data-testid="how-exact">
      <p>
        <b>In time.</b> A step of every kind is of second order: twice the frames a second, or one substep more, and a
        quarter of the error is left. Changing frames a second, slow motion or a preview's quality changes no way by
        more than is told here. Measured on small runs against what is known of them; the error is a share of the way,
        or of the speed where that is named.
      </p>
      <p>
        <b>In space.</b> Half the voxel size, and about a quarter of the error. Where thin films, drops and drawn-out
        edges are about two voxels wide they are known worse than this.
      </p>
      <v-table v-for="t in tables" :key="t.of" density="compact" class="after">
        <thead>
          <tr>
            <th v-for="h in ['Flow', 'What is looked at', ...t.heads, 'Order']" :key="h" scope="col">{{ h }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in t.rows" :key="r.kind + r.what">
            <td v-for="(c, i) in [r.kind, r.what, ...t.cells(r), r.order?.toFixed(1) ?? '–']" :key="i">{{ c }}</td>
          </tr>
        </tbody>
      </v-table>
      <p class="muted">
        No order stands where nothing but rounding is left, or where a flow chooses its own steps: grains take as many
        as their stiffness asks for, gas and growth as their voxels do, at any number of frames a second.
      </p>
    </article>
  </section>
</template>

<script setup lang="ts">
import orders from './orders.json'

type Row = (typeof orders)[number]
const of = (what: string) => orders.filter((r) => r.of === what)
const tables = [
  {
    of: 'time',
    heads: of('time')[0].tried.map((n) => `${n} a second`),
    cells: (r: Row) => r.errors.map(share),
    rows: of('time'),
  },
  {
    of: 'space',
    heads: ['Voxels and errors'],
    cells: (r: Row) => [r.errors.map((e, i) => `${share(e)} at ${r.tried[i]} mm`).join(' · ')],
    rows: of('space'),
  },
]
/** A share in per cent, two figures; less than a hundred-thousandth is not told apart. */
function share(e: number): string {
  return e < 1e-5 ? '< 0.001 %' : `${Number((100 * e).toPrecision(2))} %`
}
</script>

<style scoped>
.entry {
  padding: 10px 14px;
}
/* one table after the other, with air between */
.after {
  margin-top: 8px;
}
th {
  font-weight: 600;
}
</style>
