/** Painting: crisp lines at any pixel ratio, and the ways a stretch of sound is filled. */
import type { Box, Fill, Shape, Stroke } from './shapes';

const FONT_REM = 11 / 16;
const font = () =>
  `${FONT_REM * parseFloat(getComputedStyle(document.documentElement).fontSize)}px "Spline Sans Mono Variable", monospace`;

export interface Colours {
  ground: string;
  plate: string;
  line: string;
  ink: string;
  soft: string;
  after: string;
  taken: string;
  key: string;
}

export function coloursOf(element: Element): Colours {
  const style = getComputedStyle(element);
  const read = (name: string) => style.getPropertyValue(name).trim();
  return {
    ground: read('--ground'),
    plate: read('--plate'),
    line: read('--line'),
    ink: read('--ink'),
    soft: read('--ink-soft'),
    after: read('--after'),
    taken: read('--taken'),
    key: read('--key'),
  };
}

/** Fits the canvas to its box and returns a context in CSS pixels; null while it has no size. */
export function prepare(canvas: HTMLCanvasElement): CanvasRenderingContext2D | null {
  const ratio = window.devicePixelRatio || 1;
  const [width, height] = [canvas.clientWidth, canvas.clientHeight];
  if (!width || !height) return null;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const context = canvas.getContext('2d');
  if (!context) return null;
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, width, height);
  context.font = font();
  return context;
}

const patterns = new Map<string, CanvasPattern>();

/** Taken is hatched, added is grained: no colour is needed to tell them. */
export function pattern(
  context: CanvasRenderingContext2D,
  kind: 'hatch' | 'grain',
  colour: string,
): CanvasPattern {
  const name = `${kind} ${colour} ${window.devicePixelRatio}`;
  const result = patterns.get(name);
  if (result) return result;
  const ratio = window.devicePixelRatio || 1;
  const tile = document.createElement('canvas');
  const size = kind === 'hatch' ? 6 : 5;
  tile.width = tile.height = Math.round(size * ratio);
  const paint = tile.getContext('2d')!;
  paint.scale(tile.width / size, tile.height / size);
  paint.strokeStyle = paint.fillStyle = colour;
  if (kind === 'hatch') {
    paint.lineWidth = 1;
    for (const shift of [-size, 0, size]) {
      paint.beginPath();
      paint.moveTo(shift, size);
      paint.lineTo(shift + size, 0);
      paint.stroke();
    }
  } else {
    paint.fillRect(0.5, 0.5, 1.4, 1.4);
    paint.fillRect(3, 3, 1.4, 1.4);
  }
  const made = context.createPattern(tile, 'repeat')!;
  made.setTransform(new DOMMatrix().scale(1 / ratio));
  patterns.set(name, made);
  return made;
}

function trace(context: CanvasRenderingContext2D, xs: number[], ys: number[]): void {
  context.beginPath();
  xs.forEach((x, i) => (i ? context.lineTo(x, ys[i]!) : context.moveTo(x, ys[i]!)));
}

function fill(
  context: CanvasRenderingContext2D,
  colours: Colours,
  { ink, pattern: kind, alpha }: Fill,
): void {
  context.fillStyle = kind ? pattern(context, kind, colours[ink]) : colours[ink];
  context.globalAlpha = alpha ?? 1;
}

function stroke(context: CanvasRenderingContext2D, colours: Colours, { ink, width, dash }: Stroke): void {
  context.strokeStyle = colours[ink];
  context.lineWidth = width ?? 1;
  context.setLineDash(dash ?? []);
}

/** One-pixel lines fall on whole pixels. */
const sharp = (v: number) => Math.round(v) + 0.5;

function paintOne(context: CanvasRenderingContext2D, colours: Colours, shape: Shape): void {
  switch (shape.type) {
    case 'area': {
      fill(context, colours, shape.fill);
      trace(context, shape.xs, shape.upper);
      for (let i = shape.xs.length - 1; i >= 0; i -= 1) context.lineTo(shape.xs[i]!, shape.lower[i]!);
      context.closePath();
      context.fill();
      context.globalAlpha = 1;
      return;
    }
    case 'line':
      stroke(context, colours, shape.stroke);
      trace(context, shape.xs, shape.ys);
      context.stroke();
      return;
    case 'rule':
      stroke(context, colours, shape.stroke);
      context.beginPath();
      context.moveTo(sharp(shape.from[0]), sharp(shape.from[1]));
      context.lineTo(sharp(shape.to[0]), sharp(shape.to[1]));
      context.stroke();
      return;
    case 'box':
      fill(context, colours, shape.fill);
      context.fillRect(shape.x, shape.y, shape.width, shape.height);
      context.globalAlpha = 1;
      return;
    case 'frame':
      stroke(context, colours, shape.stroke);
      context.strokeRect(shape.x, shape.y, shape.width, shape.height);
      return;
    case 'dot':
      stroke(context, colours, { ink: shape.ink });
      fill(context, colours, { ink: shape.ink });
      context.beginPath();
      context.arc(shape.x, shape.y, shape.radius, 0, 7);
      if (shape.open) context.stroke();
      else context.fill();
      return;
    case 'text':
      fill(context, colours, { ink: shape.ink });
      context.textAlign = shape.align;
      context.fillText(shape.text, shape.x, shape.y);
      return;
    case 'clip':
      context.save();
      context.beginPath();
      context.rect(shape.x, shape.y, shape.width, shape.height);
      context.clip();
      for (const inner of shape.shapes) paintOne(context, colours, inner);
      context.restore();
  }
}

/** Paint shapes, the first lowest. */
export function paint(context: CanvasRenderingContext2D, colours: Colours, shapes: Shape[]): void {
  context.textBaseline = 'middle';
  for (const shape of shapes) paintOne(context, colours, shape);
}

/** Calls `paint` now and whenever the element's size, the theme or the pixel ratio changes. */
export function whenShown(element: HTMLElement, paint: () => void): () => void {
  let request = 0;
  const later = () => {
    cancelAnimationFrame(request);
    request = requestAnimationFrame(paint);
  };
  const size = new ResizeObserver(later);
  size.observe(element);
  const theme = new MutationObserver(later);
  theme.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] });
  const system = matchMedia('(prefers-color-scheme: dark)');
  system.addEventListener('change', later);
  void document.fonts.ready.then(later);
  return () => {
    cancelAnimationFrame(request);
    size.disconnect();
    theme.disconnect();
    system.removeEventListener('change', later);
  };
}

/** A picture as a PNG, at the resolution of the screen; `element` tells the colours. */
export function imageOf(
  element: Element,
  { width, height }: Box,
  shapes: Shape[],
  done: (file: Blob | null) => void,
): void {
  const ratio = window.devicePixelRatio || 1;
  const canvas = document.createElement('canvas');
  canvas.width = Math.round(width * ratio);
  canvas.height = Math.round(height * ratio);
  const context = canvas.getContext('2d');
  if (!context) return done(null);
  context.scale(ratio, ratio);
  context.font = font();
  paint(context, coloursOf(element), shapes);
  canvas.toBlob(done, 'image/png');
}
