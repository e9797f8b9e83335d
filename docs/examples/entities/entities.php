<?php
// Prints the mapped classes of a program as the JSON document that evensprout survey --entities reads.

#[Attribute]
class Stored { function __construct(public string $table) {} }

#[Attribute]
class In { function __construct(public ?string $column = null, public ?int $length = null, public ?bool $key = null,
    public ?string $refers = null) {} }

enum Status: string { case Active = 'active'; case Dormant = 'dormant'; case Barred = 'barred'; }

#[Stored('piers')]
class Pier {
    #[In(key: true)] public int $id;
    #[In(length: 3)] public string $code;
    #[In(column: 'closed_on')] public ?DateTimeImmutable $closedOn;
}

#[Stored('vessels')]
class Vessel {
    #[In(key: true)] public int $id;
    #[In(length: 60)] public string $name;
    #[In(column: 'home_pier_id', refers: Pier::class)] public int $homePier;
}

#[Stored('passengers')]
class Passenger {
    #[In(key: true)] public int $id;
    #[In(length: 10)] public Status $status;
}

// What follows is all that a program needs: it asks the classes themselves.
const TYPES = ['int' => 'integer', 'float' => 'real', 'string' => 'text', 'bool' => 'boolean', DateTimeImmutable::class => 'date'];

function field(ReflectionProperty $p): array {
    $of = $p->getType();
    $in = array_filter((array) $p->getAttributes(In::class)[0]->newInstance());
    $out = ['name' => $p->getName(), 'nullable' => $of->allowsNull(), 'type' => TYPES[$of->getName()] ?? 'any'];
    if (enum_exists($of->getName())) {
        $out = [...$out, 'type' => 'text', 'constants' => array_column($of->getName()::cases(), 'value')];
    }
    return [...$out, ...$in];
}

function entity(string $class): array {
    $c = new ReflectionClass($class);
    return ['name' => $c->getName(), 'table' => $c->getAttributes(Stored::class)[0]->newInstance()->table,
        'fields' => array_map(field(...), $c->getProperties())];
}

echo json_encode(['edition' => 1, 'entities' => array_map(entity(...), [Pier::class, Vessel::class, Passenger::class])],
    JSON_PRETTY_PRINT), "\n";
