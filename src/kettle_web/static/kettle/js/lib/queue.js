/** Work done one after the other: what a page saves is never overtaken by what it saves later. */

/** @typedef {{add: (work: () => Promise<void>) => Promise<void>, count: number, idle: () => Promise<void>}} Queue */

/** @returns {Queue} */
export function queue() {
  /** @type {Promise<void>} */
  let last = Promise.resolve();
  return {
    /** How much of it is not done yet. */
    count: 0,
    /** Does some work after all that was added before, also where that failed. */
    add(work) {
      this.count += 1;
      const done = last.then(work).finally(() => {
        this.count -= 1;
      });
      last = done.catch(() => {});
      return done;
    },
    /** Resolves when all that was added so far is done. */
    idle: () => last,
  };
}
