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
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">Flow</th>
            <th scope="col">What is looked at</th>
            <th v-for="n in inTime[0].tried" :key="n" scope="col">{{ n }} a second</th>
            <th scope="col">Order</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in inTime" :key="r.kind + r.what">
            <td>{{ r.kind }}</td>
            <td>{{ r.what }}</td>
            <td v-for="(e, i) in r.errors" :key="i">{{ share(e) }}</td>
            <td>{{ r.order?.toFixed(1) ?? '–' }}</td>
          </tr>
        </tbody>
      </v-table>
      <p class="muted">
        No order stands where nothing but rounding is left, or where a flow chooses its own steps: grains take as many
        as their stiffness asks for, gas and growth as their voxels do, at any number of frames a second.
      </p>
      <p>
        <b>In space.</b> Half the voxel size, and about a quarter of the error. Where thin films, drops and drawn-out
        edges are about two voxels wide they are known worse than this.
      </p>
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">Flow</th>
            <th scope="col">What is looked at</th>
            <th scope="col">Voxels and errors</th>
            <th scope="col">Order</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in inSpace" :key="r.kind">
            <td>{{ r.kind }}</td>
            <td>{{ r.what }}</td>
            <td>{{ r.errors.map((e, i) => `${share(e)} at ${r.tried[i]} mm`).join(' · ') }}</td>
            <td>{{ r.order?.toFixed(1) ?? '–' }}</td>
          </tr>
        </tbody>
      </v-table>
    </article>
  </section>
</template>

<script setup lang="ts">
import orders from './orders.json'

const inTime = orders.filter((r) => r.of === 'time')
const inSpace = orders.filter((r) => r.of === 'space')
/** A share in per cent, two figures; less than a hundred-thousandth is not told apart. */
const share = (e: number) => (e < 1e-5 ? '< 0.001 %' : `${Number((100 * e).toPrecision(2))} %`)
</script>

<style scoped>
.entry {
  padding: 10px 14px;
}
th {
  font-weight: 600;
}
</style>
