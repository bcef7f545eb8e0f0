/** What our scripts use of idiomorph. */
export const Idiomorph: {
  morph(
    old: Element,
    next: Element,
    config?: {
      morphStyle?: "innerHTML" | "outerHTML";
      callbacks?: {
        beforeNodeMorphed?: (old: Node, next: Node) => boolean;
        beforeAttributeUpdated?: (name: string, node: Element, how: string) => boolean;
      };
    },
  ): Node[];
};
