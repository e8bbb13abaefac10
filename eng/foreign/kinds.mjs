// Sends messages of many kinds, as others might, or receives what we send.
//
//   node kinds.mjs send HOST PORT USER PASSWORD ADDRESS
//       sends one of each kind; prints a line of JSON for each: its name, and what is to come of it: "handled" or "letter"
//   node kinds.mjs receive HOST PORT USER PASSWORD ADDRESS N
//       receives and accepts N messages; prints each as a line of JSON
//
// No user is "-".
import rhea from 'rhea';

const { types, message } = rhea;
const [what, host, port, user, password, address, count] = process.argv.slice(2);
const json = (number) => Buffer.from(JSON.stringify({ number }));
const structured = (id, number, more = {}) => JSON.stringify(
  { specversion: '1.0', id, source: '/foreign', type: 'test.tap', ...more, data: { number } });
const attributes = (id, more = {}, prefix = 'cloudEvents_') => Object.fromEntries(
  Object.entries({ specversion: '1.0', id, source: '/foreign', type: 'test.tap', ...more })
    .filter(([, value]) => value !== undefined).map(([name, value]) => [prefix + name, value]));
const data = (text) => message.data_section(Buffer.from(text));
const binary = (more = {}, rest = {}) => (id, number) => ({
  application_properties: attributes(id, more), content_type: 'application/json', body: data(json(number)), ...rest });
const whole = (rest = {}) => (id, number) => ({
  content_type: 'application/cloudevents+json', body: data(structured(id, number)), ...rest });

const handled = {
  'plain': binary(),
  'the other prefix': (id, n) => ({ ...binary()(id, n), application_properties: attributes(id, {}, 'cloudEvents:') }),
  'no content type': (id, n) => ({ ...binary()(id, n), content_type: undefined }),
  'data in pieces': (id, n) => ({ ...binary()(id, n), body: message.data_sections(
    [...json(n)].map((byte) => Buffer.from([byte]))) }),
  'a text as value': (id, n) => ({ ...binary()(id, n), body: json(n).toString() }),
  'bytes as value': (id, n) => ({ ...binary()(id, n), body: types.wrap_binary(json(n)) }),
  'a boolean': binary({ urgent: true }),
  'an int': binary({ weight: types.wrap_int(7) }),
  'a long': binary({ weight: types.wrap_long(1234567890123) }),
  'an unsigned long': binary({ weight: types.wrap_ulong(7) }),
  'a short': binary({ weight: types.wrap_short(7) }),
  'an unsigned byte': binary({ weight: types.wrap_ubyte(7) }),
  'a double': binary({ weight: types.wrap_double(1.5) }),
  'a float': binary({ weight: types.wrap_float(1.5) }),
  'a timestamp': binary({ time: types.wrap_timestamp(Date.UTC(2026, 4, 1)) }),
  'a symbol': binary({ pier: types.wrap_symbol('Longsand') }),
  'a uuid': binary({ trip: types.wrap_uuid(Buffer.alloc(16, 7)) }),
  'bytes': binary({ seal: types.wrap_binary(Buffer.from([1, 2, 3])) }),
  'a list': binary({ stops: types.wrap_list([1, 'two']) }),
  'a map': binary({ deck: types.wrap_map({ upper: 1 }) }),
  'null': binary({ nothing: null }),
  'properties of others': (id, n) => ({ ...binary()(id, n),
    application_properties: { ...attributes(id), 'x-own': 1.5, 'Not an Attribute': 'yes' } }),
  'every property': binary({}, { message_id: 7, user_id: Buffer.from('gate'), to: 'taps', subject: 'tide',
    reply_to: 'back', correlation_id: 'c', group_id: 'g', group_sequence: 3, creation_time: new Date(0),
    reply_to_group_id: 'r' }),
  'a header': binary({}, { durable: true, priority: 9, ttl: 3_600_000 }),
  'annotations': binary({}, { message_annotations: { 'x-opt-other': types.wrap_list([1, 2]) },
    delivery_annotations: { 'x-opt-way': 'long' }, footer: { 'x-opt-sum': 7 } }),
  'a mebibyte': (id, n) => ({ ...binary()(id, n),
    body: data(JSON.stringify({ number: n, pier: 'x'.repeat(1 << 20) })) }),
  'an event as data': whole(),
  'an event as text': (id, n) => ({ ...whole()(id, n), body: structured(id, n) }),
  'an event with its charset': whole({ content_type: 'application/cloudevents+json; charset=UTF-8' }),
  'an event with a number too large': (id, n) => ({ ...whole()(id, n),
    body: data(structured(id, n, { weight: 1e20, deep: { a: 1 } })) }),
};

const letters = {
  'no event': () => ({ content_type: 'text/plain', body: data('Longsand;0417') }),
  'packed': binary({}, { content_encoding: 'gzip' }),
  'a sequence': (id, n) => ({ ...binary()(id, n), body: message.sequence_section([n]) }),
  'a number as value': (id, n) => ({ ...binary()(id, n), body: types.wrap_int(n) }),
  'no id': (id, n) => ({ ...binary()(id, n), application_properties: attributes(undefined) }),
  'an id that is a number': (id, n) => ({ ...binary()(id, n), application_properties: attributes(types.wrap_int(7)) }),
  'half a body': (id, n) => ({ ...binary()(id, n), body: data('{"number":') }),
  'two bodies': (id, n) => ({ ...binary()(id, n), body: data('{"number":1} {"number":2}') }),
  'a batch': (id, n) => ({ content_type: 'application/cloudevents-batch+json',
    body: data(`[${structured(id, n)}]`) }),
  'a time without its zone': binary({ time: '2026-05-01T08:00:00' }),
  'another version': binary({ specversion: '0.3' }),
  'control characters': binary({ subject: '\u001b[2J' }),
};

const container = rhea.create_container({ id: 'foreign' });
const connection = container.connect(
  { host, port: Number(port), reconnect: false, ...(user === '-' ? {} : { username: user, password }) });
const end = () => {
  container.removeAllListeners('disconnected');
  connection.close();
};
container.on('disconnected', ({ error, connection: lost }) => {
  console.error('disconnected', error ?? lost?.error ?? '');
  process.exit(1);
});
for (const of of ['connection_error', 'session_error', 'sender_error', 'receiver_error', 'rejected', 'released'])
  container.on(of, (context) => console.error(of, context[of.split('_')[0]]?.error ?? context.delivery?.remote_state ?? ''));
container.on('error', (error) => { console.error(error); process.exit(1); });

if (what === 'send') {
  const kinds = [...Object.entries(handled).map(([name, make]) => [name, make, 'handled']),
    ...Object.entries(letters).map(([name, make]) => [name, make, 'letter'])];
  let [next, settled] = [0, 0];
  container.on('sendable', ({ sender }) => {
    for (; next < kinds.length && sender.sendable(); next++) {
      const [name, make, becomes] = kinds[next];
      sender.send(make(`foreign-${next}`, next));
      console.log(JSON.stringify({ name, number: next, becomes }));
    }
  });
  for (const outcome of ['accepted', 'rejected', 'released', 'modified'])
    container.on(outcome, () => { if (++settled === kinds.length) end(); });
  connection.open_sender(address);
} else {
  let left = Number(count);
  container.on('message', ({ message: come }) => {
    const body = come.body?.content ?? come.body;
    console.log(JSON.stringify({
      type: come.content_type, durable: come.durable, properties: come.application_properties,
      body: Buffer.isBuffer(body) ? body.toString() : body }));
    if (--left === 0) end();
  });
  connection.open_receiver(address);
}
