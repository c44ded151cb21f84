<template>
  <section id="Start" class="start">
    <img :src="PICTURE" alt="Smoke thrown down on the quay by a gust" />
    <div>
      <h2>From nothing to a first result</h2>
      <p>
        A study is a score: lanes under one another, each read left to right. Field lanes make a velocity, a scalar or a
        noise at every point in space and time; flow lanes are what they carry: particles, gas, liquid, grains, growth.
        The view shows both.
      </p>
      <h3>The order of work</h3>
      <ol>
        <li><b>Shapes and a region.</b> What stands in the way, what something comes out of, and the box of voxels.</li>
        <li>
          <b>One field.</b> A start (wind, curl noise, spline flow …), then changes. Look at every step: its card is a
          slice of it, the probe its motion, the numbers its size and its sources.
        </li>
        <li><b>One flow, coarse.</b> A few parameters; a preview runs by itself as soon as it can.</li>
        <li><b>Push it.</b> The field, first as it is, then masked, evolving, steered around the shapes.</li>
        <li>
          <b>Checks, then refine.</b> What is found has a place and a fix; then smaller voxels, a full run, files.
        </li>
      </ol>
      <h3>Five minutes</h3>
      <ol>
        <li><b>New study</b>, and take <i>Smoke past a shape</i>. Frames come at once, and the view follows them.</li>
        <li>Select <i>Turbulence ▸ Curl noise</i> and drag <i>Feature size</i>: the preview begins anew by itself.</li>
        <li>
          Select <i>Smoke ▸ Push</i> and set <i>Strength</i> to 0, then back with Ctrl Z: this is what the field does.
        </li>
        <li>Click <b>Light</b> in the view and drag the sun behind the smoke; then <i>Fit the exposure</i>.</li>
        <li>Press <b>C</b>: the two versions side by side, with what differs in numbers.</li>
      </ol>
      <p class="muted">? lists the keys; hold B to see a field without the selected step; / searches everything.</p>
    </div>
  </section>
</template>

<script setup lang="ts">
const PICTURE = '/api/demos/chimney_downdraught/picture'
</script>

<style scoped>
.start {
  display: grid;
  grid-template-columns: minmax(280px, 5fr) 7fr;
  gap: 22px;
  align-items: start;
}
img {
  width: 100%;
  border: 1px solid var(--line);
  border-radius: 3px;
}
h2 {
  font-size: 18px;
  margin: 0 0 6px;
}
h3 {
  font-size: 14px;
  margin: 10px 0 3px;
}
ol {
  padding-left: 20px;
  margin: 0;
}
li {
  margin-bottom: 3px;
}
p {
  max-width: 760px;
}
</style>
