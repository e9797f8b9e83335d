// Prints the mapped classes of a program as the JSON document that evensprout survey --entities reads.
const Status = { ACTIVE: 'active', DORMANT: 'dormant', BARRED: 'barred' };

class Pier {
  static table = 'piers';
  static columns = {
    id: { type: Number, key: true },
    code: { type: String, length: 3 },
    closedOn: { type: Date, column: 'closed_on', dateOnly: true, nullable: true },
  };
}

class Vessel {
  static table = 'vessels';
  static columns = {
    id: { type: Number, key: true },
    name: { type: String, length: 60 },
    homePier: { type: Number, column: 'home_pier_id', refers: Pier },
  };
}

class Passenger {
  static table = 'passengers';
  static columns = {
    id: { type: Number, key: true },
    status: { type: String, length: 10, oneOf: Status },
  };
}

// What follows is all that a program needs: it asks the classes themselves.
const types = new Map([[Number, 'integer'], [String, 'text'], [Boolean, 'boolean'], [Date, 'timestamp'], [Buffer, 'bytes']]);

const field = ([name, c]) => ({
  name,
  column: c.column,
  type: c.dateOnly ? 'date' : types.get(c.type) ?? 'any',
  length: c.length,
  nullable: c.nullable ?? false,
  key: c.key,
  refers: c.refers?.name,
  constants: c.oneOf && Object.values(c.oneOf),
});

const entity = (c) => ({ name: c.name, table: c.table, fields: Object.entries(c.columns).map(field) });

console.log(JSON.stringify({ edition: 1, entities: [Pier, Vessel, Passenger].map(entity) }, null, 2));
