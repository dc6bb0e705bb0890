/** Told is something that stands somehow outside of React, and tells whoever shows it. */
export class Told<S> {
  private readonly watchers = new Set<() => void>();

  constructor(protected standing: S) {}

  readonly now = (): S => this.standing;
  readonly subscribe = (watcher: () => void) => {
    this.watchers.add(watcher);
    return () => void this.watchers.delete(watcher);
  };

  protected stand(now: S) {
    this.standing = now;
    for (const w of this.watchers) w();
  }
}
