import type { Component } from 'svelte';
import type { View } from '../lib/state/address';
import Bench from './Bench.svelte';
import Contrast from './Contrast.svelte';
import Deliver from './Deliver.svelte';
import Map from './Map.svelte';
import Shape from './Shape.svelte';

/** Each view's part: a view without one is an error of types. */
export const PARTS: Record<View, Component> = {
  shape: Shape,
  map: Map,
  contrast: Contrast,
  bench: Bench,
  deliver: Deliver,
};
