<template>
  <section id="Ways">
    <h2>Ways of working with runs</h2>
    <article class="entry">
      <p>
        <b>Look before it costs.</b> Beside Run stands what the run would take: time, memory, and in its tooltip disk,
        told from the frames of the preview or of the version before. A preview has larger voxels or fewer particles,
        and the same motion on the whole.
      </p>
      <p>
        <b>Stop early, keep, go on.</b> Frames are shown as they come. Stop keeps them; Run goes on from the last one,
        also after the machine was switched off.
      </p>
      <p>
        <b>Look into a gas.</b> Select its lane: the probe then stands in what the run holds. With smoke shown it draws
        the velocity as barbs, with a channel shown it slices that channel.
      </p>
      <p>
        <b>Compare (C).</b> Runs, or channels of one, side by side: turn one picture and all turn, one range maps them
        all, the third picture is the difference of the first two, and below are the numbers. The address keeps what is
        seen, frame, range and camera included: send it. Quantities of different units may stand side by side, but are
        not subtracted.
      </p>
      <p>
        <b>Pour, let it settle, then push.</b> A liquid lane begins with Domain, Source, Gravity and Surface: run that,
        and see where it comes to rest. Give the Source an end, the floor some stick (thick liquid) or friction (thin).
        Then add Push with a constant lane first, to see that it acts where you think, put curl noise in its place, let
        it evolve, and take away an axis. Switch a push off and on: each version keeps its frames, and Compare puts them
        side by side.
      </p>
      <p>
        <b>Thick and thin in one.</b> A field in place of the Source's viscosity is looked up where and when each
        particle is born, and stays with it. Spread it in its logarithm (remap to the exponents, then the formula
        exp(f)): from 0.01 to 1 reads better than from 0 to 1.
      </p>
      <p>
        <b>A surface costs no run.</b> It is worked out from the frames: another voxel size, smoothing or look is there
        at once, and it leaves with velocities for motion blur. Drops of single particles are not on it; show them as
        foam, or let another lane be born from the foam.
      </p>
      <p>
        <b>Pile, draw, let slump.</b> A grain lane begins with Domain, Source, Gravity and Friction: run that, and see
        that the heap holds its slope. The spacing is the quality dial; a preview has an eighth of the grains. Then Push
        along a curve by a spline flow, with Only where set to noise that is remapped until it is nearly on or off and
        evolves: what is held rises, what is let go slumps. A Speed limit well below what the field asks keeps the drawn
        sand a body.
      </p>
      <p>
        <b>Seed, spread, keep off.</b> A growth lane begins with Domain, Seed shape and Spread: run that, and it is a
        ball. Give the speed a field with a high contrast, and it grows in tongues; the borders of cells make veins.
        Only where, set to a mask near a surface, keeps it on that. Carry along curl noise, only outward, draws arms.
        The box costs nothing, voxels half as large take eight times the time.
      </p>
      <p>
        <b>What has grown is a shape.</b> Mesh of a run is the surface of a lane on each frame: let it emit, deform it,
        collide with it. For a smooth distance to steer by, read the distance by From run and make a Surface of a field
        of that.
      </p>
      <p>
        <b>Points that stay.</b> Scatter at once, At least apart and Evened out, then Ride on the shape: each keeps its
        place on the surface while that moves or is deformed. On lines of another lane new points are born on each
        frame; Carry with half of the field lets them lag half way behind.
      </p>
      <p>
        <b>Slow motion.</b> The clock's <i>× slow</i> shows the same seconds in more frames, for flows of every kind.
        Grains and fields go the same ways; only more of them are seen.
      </p>
      <p>
        <b>Swirls that last.</b> A step of gas is of second order in time: a row of vortices keeps 99.5 % and more of
        its energy in half a second at 12, 24 and 48 frames a second, and a plume is as high at all of them within a
        hundredth. What is lost is lost to voxels, where a swirl is less than some six of them wide. Strong layers (hot
        over cold) that swing fast are damped. Curl up adds to swirls what was not there.
      </p>
      <p>
        <b>Times and frames.</b> Times are in seconds, so that another frame rate changes none. Where a time is a
        moment, the frame stands beside it, and <i class="num">f 25</i> may be typed.
      </p>
      <p>
        <b>Refine.</b> A gas lane that begins with Detail carries finer smoke by the motion of another gas. Change the
        sources' look, the eddies or the fading there, and the coarse run stays.
      </p>
    </article>
  </section>
</template>

<style scoped>
.entry {
  columns: 2 460px;
  column-gap: 28px;
  padding: 10px 14px;
}
p {
  break-inside: avoid;
}
</style>
