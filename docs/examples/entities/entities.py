"""Prints the mapped classes of a program as the JSON document that evensprout survey --entities reads."""
import dataclasses, datetime, enum, json, typing


class Status(enum.Enum):
    ACTIVE, DORMANT, BARRED = "active", "dormant", "barred"


def column(name=None, key=False, refers=None, length=None):
    return dataclasses.field(metadata={"column": name, "key": key, "refers": refers, "length": length})


@dataclasses.dataclass
class Pier:
    table = "piers"
    id: int = column(key=True)
    code: str = column(length=3)
    closedOn: typing.Optional[datetime.date] = column("closed_on")


@dataclasses.dataclass
class Vessel:
    table = "vessels"
    id: int = column(key=True)
    name: str = column(length=60)
    homePier: int = column("home_pier_id", refers="Pier")


@dataclasses.dataclass
class Passenger:
    table = "passengers"
    id: int = column(key=True)
    status: Status = column(length=10)


# What follows is all that a program needs: it asks the classes themselves.
TYPES = {int: "integer", float: "real", str: "text", bool: "boolean", bytes: "bytes",
         datetime.date: "date", datetime.datetime: "timestamp"}


def field(f, of):
    inner = [t for t in typing.get_args(of) if t is not type(None)]
    nullable, of = bool(inner), (inner or [of])[0]
    out = {"name": f.name, "nullable": nullable, "type": TYPES.get(of, "any")}
    if issubclass(of, enum.Enum):
        out |= {"type": "text", "constants": [c.value for c in of]}
    return out | {k: v for k, v in f.metadata.items() if v}


def entity(c):
    types = typing.get_type_hints(c)
    return {"name": c.__name__, "table": c.table, "fields": [field(f, types[f.name]) for f in dataclasses.fields(c)]}


print(json.dumps({"edition": 1, "entities": [entity(c) for c in (Pier, Vessel, Passenger)]}, indent=2))
