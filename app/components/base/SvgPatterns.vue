<template>
  <svg width="0" height="0" class="absolute" aria-hidden="true">
    <defs>
      <pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="5" height="5" fill="var(--error-wash)" />
        <line x1="0" y1="0" x2="0" y2="5" stroke="var(--error)" stroke-width="1.6" />
      </pattern>
      <pattern id="hatch-warning" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <line x1="0" y1="0" x2="0" y2="4" stroke="var(--warning)" stroke-width="1.5" />
      </pattern>
    </defs>
  </svg>
</template>
