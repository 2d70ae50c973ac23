// Whoever comes to this page is signed out: the field pages kept in this browser stay, but are locked until the same
// person signs in again. The queue of sheets that were never sent is not touched.
import { lock } from "./kept.js";

await lock();
