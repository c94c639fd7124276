/** Painting: crisp lines at any pixel ratio, and the four ways a stretch of sound is filled. */

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
  context.font = '11px "Spline Sans Mono Variable", monospace';
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
  const found = patterns.get(name);
  if (found) return found;
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

/** The closed shape between two lines of points, x growing. */
export function between(
  context: CanvasRenderingContext2D,
  xs: number[],
  upper: number[],
  lower: number[],
): void {
  context.beginPath();
  xs.forEach((x, i) => (i ? context.lineTo(x, upper[i]!) : context.moveTo(x, upper[i]!)));
  for (let i = xs.length - 1; i >= 0; i -= 1) context.lineTo(xs[i]!, lower[i]!);
  context.closePath();
}

export function line(context: CanvasRenderingContext2D, xs: number[], ys: number[]): void {
  context.beginPath();
  xs.forEach((x, i) => (i ? context.lineTo(x, ys[i]!) : context.moveTo(x, ys[i]!)));
  context.stroke();
}

/** A one-pixel horizontal or vertical line that falls on whole pixels. */
export function rule(
  context: CanvasRenderingContext2D,
  x1: number,
  y1: number,
  x2: number,
  y2: number,
): void {
  const sharp = (v: number) => Math.round(v) + 0.5;
  context.beginPath();
  context.moveTo(sharp(x1), sharp(y1));
  context.lineTo(sharp(x2), sharp(y2));
  context.stroke();
}

/** Calls `paint` now and whenever the element's size, the theme or the pixel ratio changes. */
export function whenShown(canvas: HTMLCanvasElement, paint: () => void): () => void {
  let asked = 0;
  const later = () => {
    cancelAnimationFrame(asked);
    asked = requestAnimationFrame(paint);
  };
  const size = new ResizeObserver(later);
  size.observe(canvas);
  const theme = new MutationObserver(later);
  theme.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] });
  const system = matchMedia('(prefers-color-scheme: dark)');
  system.addEventListener('change', later);
  void document.fonts.ready.then(later);
  return () => {
    cancelAnimationFrame(asked);
    size.disconnect();
    theme.disconnect();
    system.removeEventListener('change', later);
  };
}
