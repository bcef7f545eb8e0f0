import { moved, toPaper, toProgram } from "../lib/cut_pieces.js";
import { TakeView } from "./take_view.js";

/**
 * Where one is in an assembly, on its lines and in its program: two views of one place. What is
 * taken out is a place on the lines only; the program stands there where it would be.
 * @param {import("./cut_data.js").CutData} data
 */
export function cutViews(data) {
  const lines = new TakeView();
  const program = new TakeView();
  let following = false;

  /** Does something that the other view must not answer. @param {() => void} what */
  const alone = (what) => {
    if (following) return;
    following = true;
    try {
      what();
    } finally {
      following = false;
    }
  };

  lines.addEventListener("at", (event) =>
    alone(() =>
      program.go(toProgram(data.rows, lines.at), /** @type {CustomEvent} */ (event).detail),
    ),
  );
  program.addEventListener("at", () =>
    alone(() => lines.go(toPaper(data.rows, program.at), false)),
  );
  lines.addEventListener("stretch", () =>
    alone(() => {
      if (!lines.stretch) return program.forget();
      const [a, b] = lines.stretch.map((at) => toProgram(data.rows, at));
      program.mark(a, b);
    }),
  );

  return {
    lines,
    program,
    /**
     * The pieces are others by now: the play head stays where it was in the program. What is marked
     * stays where the list itself is not another one: it has a take more, or a longer one.
     * @param {import("../lib/cut_pieces.js").Row[] | null} [before] the rows of the same list
     */
    relaid(before = null) {
      const at = program.at;
      const marked = before && lines.stretch && moved(before, data.rows, lines.stretch);
      alone(() => {
        lines.forget();
        program.forget();
        lines.setTotal(data.rows.at(-1)?.paper_end ?? 0);
        program.setTotal(data.now?.length_s ?? 0);
        program.go(Math.min(at, program.total), false);
        lines.go(toPaper(data.rows, program.at), false);
      });
      if (marked) lines.mark(...marked);
    },
  };
}

/** @typedef {ReturnType<typeof cutViews>} CutViews */
