import { SectionController } from '../../static/js/section.js';

/** Section 2: the limit is dragged on the coloured part. */
export default class PrinterController extends SectionController {
  coloured = true;
}
