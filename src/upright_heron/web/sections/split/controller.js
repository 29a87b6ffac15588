import { field, SectionController, the } from '../../static/js/section.js';

/** Section 3: the pieces, pulled apart. */
export default class SplitController extends SectionController {
  constructor(page) {
    super(page);
    the('#pull').addEventListener('input', () => {
      const { value } = field('#pull');
      the('#pull-out').textContent = `${value} %`;
      this.view.pull(Number(value) / 100);
    });
  }

  update() {
    the('#pull-slip').hidden = !this.pieces;
  }

  leave() {
    the('#pull-slip').hidden = true;
  }

  get pieces() {
    const { keys, state } = this.page;
    return Boolean(keys.split) && state.split === keys.split;
  }

  tags() {
    if (!this.pieces) return [];
    return this.view.pieces.children.slice(0, 150).map((body) => ({ text: String(body.userData.number), at: body.userData.middle, kind: 'piece', body }));
  }
}
