import { LengthEcho } from './length.js';

window.heronLengths = new LengthEcho();
