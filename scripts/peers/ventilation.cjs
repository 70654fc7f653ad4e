// A device of another hand: three objects of a ventilation, one of them commanded at sixteen priorities and one with a
// fault. It tells of changes to who subscribed, and prints each write as a line of JSON.
//
//   node ventilation.cjs MODULE PORT several|single
//
// With single, it knows no question for several properties.
"use strict";
const Bacnet = require(process.argv[2]);
const device = new Bacnet({ port: Number(process.argv[3]), interface: "127.0.0.1", broadcastAddress: "127.0.0.1" });
const single = process.argv[4] === "single";
const [BOOL_NULL, UNSIGNED, REAL, TEXT, BITS, ENUMERATED, OBJECT] = [0, 2, 4, 7, 8, 9, 12];
const [NAME, PRESENT, PRIORITIES, OBJECT_LIST, FLAGS] = [77, 85, 87, 76, 111];
const instance = 4070;
const one = (type, value) => [{ type, value }];
const flags = (bits) => one(BITS, { bitsUsed: 4, value: [bits] });
const priorities = new Array(16).fill(null);
const objects = {
  "8:4070": { 75: one(OBJECT, { type: 8, instance }), [NAME]: one(TEXT, "Ventilation"), 70: one(TEXT, "Of another hand") },
  "0:1": { [NAME]: one(TEXT, "Supply air"), 28: one(TEXT, "Row B"), 117: one(ENUMERATED, 62), [PRESENT]: one(REAL, 11.5), [FLAGS]: flags(0) },
  "1:2": { [NAME]: one(TEXT, "Valve"), 117: one(ENUMERATED, 98), [PRESENT]: one(REAL, 40), [FLAGS]: flags(0), 104: one(REAL, 40) },
  "3:3": { [NAME]: one(TEXT, "Filter"), [PRESENT]: one(ENUMERATED, 1), [FLAGS]: flags(2), 103: one(ENUMERATED, 7) },
};
const list = Object.keys(objects).map((key) => {
  const [type, number] = key.split(":").map(Number);
  return { type: OBJECT, value: { type, instance: number } };
});

// read returns the values of a property, or a class and a code of error.
function read(id, { id: property, index }) {
  const object = objects[id.type + ":" + id.instance];
  const whole = index === undefined || index === 0xffffffff;
  let values = object && object[property];
  if (id.type === 8 && property === OBJECT_LIST) values = list;
  if (id.type === 1 && property === PRIORITIES)
    values = priorities.map((v) => (v === null ? { type: BOOL_NULL, value: null } : { type: REAL, value: v }));
  if (!object) return { error: [1, 31] };
  if (!values) return { error: [2, 32] };
  if (whole) return { values };
  return index === 0 ? { values: one(UNSIGNED, values.length) } : { values: [values[index - 1]] };
}

device.on("whoIs", (m) => device.iAmResponse(m.header.sender, instance, 3, 999));
device.on("readProperty", (m) => {
  const { objectId, property } = m.payload;
  const { values, error } = read(objectId, property);
  if (error) device.errorResponse(m.header.sender, m.service, m.invokeId, ...error);
  else device.readPropertyResponse(m.header.sender, m.invokeId, objectId, property, values);
});
device.on("readPropertyMultiple", (m) => {
  if (single) return device.errorResponse(m.header.sender, m.service, m.invokeId, 5, 45);
  const answers = m.payload.properties.map(({ objectId, properties }) => ({
    objectId,
    values: properties.map((property) => ({ property, value: read(objectId, property).values })),
  }));
  // The module has no way to say that one of them failed: any device that it makes refuses the question.
  if (answers.some((a) => a.values.some((v) => !v.value))) return device.errorResponse(m.header.sender, m.service, m.invokeId, 2, 32);
  device.readPropertyMultipleResponse(m.header.sender, m.invokeId, answers);
});
const told = new Map();
const tell = ({ to, process, id }) =>
  device.unconfirmedCOVNotification(to, process, instance, id, 60, [
    { property: { id: PRESENT }, value: read(id, { id: PRESENT }).values },
    { property: { id: FLAGS }, value: read(id, { id: FLAGS }).values },
  ]);
device.on("writeProperty", (m) => {
  const { objectId, value } = m.payload;
  const { type, value: v } = value.value[0];
  console.log(JSON.stringify({ object: objectId.type + ":" + objectId.instance, value: v, priority: value.priority }));
  if (objectId.type !== 1) return device.errorResponse(m.header.sender, m.service, m.invokeId, 2, 40);
  priorities[value.priority - 1] = type === BOOL_NULL ? null : v;
  const held = priorities.find((each) => each !== null);
  objects["1:2"][PRESENT] = one(REAL, held === undefined ? 40 : held);
  device.simpleAckResponse(m.header.sender, m.service, m.invokeId);
  for (const each of told.values()) if (each.id.type === 1) tell(each);
});
device.on("subscribeCov", (m) => {
  const { monitoredObjectId: id, subscriberProcessId: process } = m.payload;
  device.simpleAckResponse(m.header.sender, m.service, m.invokeId);
  told.set(id.type + ":" + id.instance, { to: m.header.sender.address, process, id });
});
setInterval(() => {
  objects["0:1"][PRESENT] = one(REAL, 11 + (objects["0:1"][PRESENT][0].value === 11.5 ? 1 : 0.5));
  for (const each of told.values()) if (each.id.type === 0) tell(each);
}, 200);
console.log("{}");
