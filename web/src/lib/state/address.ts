/** The address of a view of a session: `#/3/map`. Back and forward go through what was looked at. */

export const VIEWS = ['shape', 'map', 'contrast', 'bench', 'deliver'] as const;
export type View = (typeof VIEWS)[number];
export const VIEW_NAMES: Record<View, string> = {
  shape: 'Shape',
  map: 'Map',
  contrast: 'Contrast',
  bench: 'Bench',
  deliver: 'Deliver',
};

export interface Address {
  session: number | null;
  view: View;
}

export function addressOf(hash: string): Address {
  const [, session, view] = /^#\/(\d+)(?:\/(\w+))?$/.exec(hash) ?? [];
  return {
    session: session === undefined ? null : Number(session),
    view: VIEWS.find((name) => name === view) ?? 'shape',
  };
}

export function hashOf({ session, view }: Address): string {
  return session === null ? '' : `#/${session}/${view}`;
}

/** What the window is called. */
export function titleOf(session: string | null, view: View): string {
  return session === null ? 'Salt Anvil' : `${session}, ${VIEW_NAMES[view]} - Salt Anvil`;
}
