import { SectionController } from '../../static/js/section.js';
import { FindingList } from './findings.js';
import { MarksPanel } from './marks.js';

/** Section 5: the list of findings, stepped through in the view, and the marks. */
export default class OverhangsController extends SectionController {
  coloured = true;

  /** Key of the findings that the place in the view is one of. @type {string | null} */
  placeOf = null;

  /** Height above the plate from which the next finding is asked for. @type {number | undefined} */
  waiting;

  constructor(page) {
    super(page);
    page.tabs.overhangs = 'findings';
    this.findings = new FindingList(page, (finding) => this.#finding(finding));
    this.marks = new MarksPanel(page.view, {
      mesh: () => page.state.mesh,
      stroked: (marks, step) => this.#stroked(marks, step),
      send: (url, values) => page.send(url, values),
      look: (at) => this.view.setPlace({ lines: [], facets: [], at, facing: [0, 0, 0], colour: '#20303a' }),
    });
  }

  /** Whether the marks are open, so that the part has to be fine enough to paint on. */
  get painting() {
    return this.page.store.open === 'overhangs' && this.page.tabs.overhangs === 'marks';
  }

  update() {
    this.marks.follow(this.painting);
    this.findings.follow();
    this.#jump();
  }

  leave() {
    this.marks.follow(false);
    delete document.body.dataset.finding;
  }

  escape() {
    if (this.painting) this.marks.use(null);
  }

  get supports() {
    return this.painting ? 'hidden' : 'faint';
  }

  get keepsPlace() {
    return this.placeOf !== null && this.placeOf === this.page.state.findings;
  }

  tags() {
    return this.painting ? [] : this.page.islandTags();
  }

  key(event) {
    if (event.key === 'n' || event.key === 'p') this.findings.step(event.key === 'n' ? 1 : -1);
    else if ((event.key === '+' || event.key === '-') && this.painting) this.marks.resize(event.key === '+' ? 1.15 : 1 / 1.15);
    else return false;
    return true;
  }

  /** Go on to the next finding above a height. @param {number} z  mm above the plate */
  onward(z) {
    this.waiting = z;
    if (this.page.store.open === 'overhangs') this.#jump();
    else this.page.goTo(this.page.state.sections.overhangs);
  }

  #jump() {
    if (this.waiting === undefined) return;
    this.page.tab('findings');
    this.findings.above(this.waiting);
    this.waiting = undefined;
  }

  /** Come near to a finding, in its layer. @param {import('./findings.js').Finding} finding */
  async #finding(finding) {
    const { hangs, mesh, raise, findings } = this.page.state;
    const { family, number } = finding;
    this.placeOf = findings;
    if (family === 'overhang') {
      const answer = await fetch(`/api/blocks/hangs/${hangs}/${number}?mesh=${mesh}`);
      if (!answer.ok || this.page.store.open !== 'overhangs') return;
      this.page.profile.set(null);
      this.view.setPlace(await answer.json());
    } else {
      this.page.profile.goTo(finding.z + raise + 1e-6);
      const wide = family === 'layer step' || family === 'thin neck';
      this.view.setPlace(wide ? null : this.view.spot(finding.at, raise, family === 'island' ? '#c8246b' : '#20303a'));
    }
    document.body.dataset.finding = finding.name;
  }

  /** A stroke was kept. @param {string | null | undefined} marks  what is painted now; not known while more are on their way */
  #stroked(marks, step) {
    this.page.acted(step);
    if (marks !== undefined) this.page.keys.marks = marks;
    else if (!this.marks.flying) this.page.keys.marks = undefined;
    this.page.refreshSoon();
  }
}
