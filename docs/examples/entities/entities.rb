# Prints the mapped classes of a program as the JSON document that evensprout survey --entities reads.
require "date"
require "json"

module Mapped
  def columns = (@columns ||= {})
  def table(name = nil) = name ? @table = name : @table
  def column(name, type, **rest) = columns[name] = { type: type, **rest }
end

STATUS = %w[active dormant barred]

class Pier
  extend Mapped
  table "piers"
  column :id, Integer, key: true
  column :code, String, length: 3
  column :closedOn, Date, column: "closed_on", nullable: true
end

class Vessel
  extend Mapped
  table "vessels"
  column :id, Integer, key: true
  column :name, String, length: 60
  column :homePier, Integer, column: "home_pier_id", refers: Pier
end

class Passenger
  extend Mapped
  table "passengers"
  column :id, Integer, key: true
  column :status, String, length: 10, constants: STATUS
end

# What follows is all that a program needs: it asks the classes themselves.
TYPES = { Integer => "integer", Float => "real", String => "text", Date => "date", Time => "timestamp" }

def field(name, of)
  { name: name, nullable: false, **of, type: TYPES.fetch(of[:type], "any"), refers: of[:refers]&.name }.compact
end

def entity(c)
  { name: c.name, table: c.table, fields: c.columns.map { |name, of| field(name, of) } }
end

puts JSON.pretty_generate(edition: 1, entities: [Pier, Vessel, Passenger].map { |c| entity(c) })
