/** What we use of SortableJS. */
declare const Sortable: {
  create(root: HTMLElement, options: object): { destroy(): void };
};
export default Sortable;
