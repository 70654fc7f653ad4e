// A client of another hand: it finds a device of BACnet/IP, lists and reads its objects, writes, and has itself
// told of changes; what it saw is printed as JSON. With an object, it waits until that has a fault.
//
//   node buildings.cjs MODULE 127.0.0.1:47808 [TYPE:INSTANCE]
"use strict";
const Bacnet = require(process.argv[2]);
const address = { address: process.argv[3] };
const waits = process.argv[4];
const { OBJECT_LIST, PRESENT, NAME, FLAGS, RELIABILITY, UNITS, PRIORITIES } = {
  OBJECT_LIST: 76, PRESENT: 85, NAME: 77, FLAGS: 111, RELIABILITY: 103, UNITS: 117, PRIORITIES: 87,
};
const client = new Bacnet({ port: 0, interface: "127.0.0.1", broadcastAddress: "127.0.0.1", apduTimeout: 3000 });
const ask = (fn) => new Promise((done) => fn((error, value) => done(error ? { error: error.message } : value)));
const one = (answer) => (answer.error ? answer : answer.values && answer.values[0] ? answer.values[0].value : null);
const sleep = (ms) => new Promise((done) => setTimeout(done, ms));
const read = (object, property, more) => ask((back) => client.readProperty(address, object, property, more || {}, back));
const several = (list) => ask((back) => client.readPropertyMultiple(address, list, back));
const saw = { found: [], names: {}, values: {}, told: 0 };
client.on("iAm", (m) => saw.found.push(m.payload.deviceId));
client.on("covNotifyUnconfirmed", () => saw.told++);
client.on("error", (e) => (saw.error = String(e.message || e)));

async function once() {
  client.whoIs(address, {});
  await sleep(700);
  const device = { type: 8, instance: saw.found[0] };
  const count = one(await read(device, OBJECT_LIST, { arrayIndex: 0 }));
  const objects = [];
  for (let i = 1; i <= count; i++) {
    const id = one(await read(device, OBJECT_LIST, { arrayIndex: i }));
    if (id && id.type !== 8) objects.push(id);
  }
  saw.objects = objects.length;
  for (let i = 0; i < objects.length; i += 10) {
    const part = objects.slice(i, i + 10);
    const answer = await several(part.map((objectId) => ({ objectId, properties: [{ id: NAME }, { id: PRESENT }, { id: FLAGS }, { id: UNITS }] })));
    if (answer.error) throw new Error(answer.error);
    for (const each of answer.values) {
      const got = Object.fromEntries(each.values.map((v) => [v.id, v.value[0] ? v.value[0].value : null]));
      const key = each.objectId.type + ":" + each.objectId.instance;
      saw.names[key] = got[NAME];
      saw.values[key] = { is: got[PRESENT], flags: got[FLAGS], unit: got[UNITS] };
    }
  }
  const first = objects[0];
  saw.refused = (await ask((back) => client.writeProperty(address, first, PRESENT, [{ type: 4, value: 1 }], { priority: 8 }, back)));
  saw.unknown = await read({ type: 0, instance: 4194000 }, PRESENT);
  saw.subscribed = await ask((back) => client.subscribeCov(address, first, 7, false, false, 60, back));
  const commanded = objects.find((o) => o.type === 2);
  if (commanded) {
    const write = (type, value, priority) => ask((back) => client.writeProperty(address, commanded, PRESENT, [{ type, value }], { priority }, back));
    saw.written = await write(4, 11.5, 8);
    saw.reads = one(await read(commanded, PRESENT));
    saw.slot = one(await read(commanded, PRIORITIES, { arrayIndex: 8 }));
    saw.given = await write(0, null, 8);
    saw.after = one(await read(commanded, PRIORITIES, { arrayIndex: 8 }));
  }
  await sleep(2500);
}

async function fault() {
  const [type, instance] = waits.split(":").map(Number);
  const began = Date.now();
  for (;;) {
    const answer = await several([{ objectId: { type, instance }, properties: [{ id: FLAGS }, { id: RELIABILITY }] }]);
    if (!answer.error) {
      const got = Object.fromEntries(answer.values[0].values.map((v) => [v.id, v.value[0] ? v.value[0].value : null]));
      if (got[RELIABILITY]) {
        saw.fault = { after: Date.now() - began, reliability: got[RELIABILITY], flags: got[FLAGS] };
        return;
      }
    }
    if (Date.now() - began > 60000) throw new Error("no fault within a minute");
    await sleep(50);
  }
}

(waits ? fault() : once())
  .catch((e) => (saw.failed = String(e.message || e)))
  .finally(() => {
    console.log(JSON.stringify(saw));
    process.exit(0);
  });
