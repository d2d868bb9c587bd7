# frozen_string_literal: true

module Gerastic
  # A node of Gerastic.
  class Client
    def initialize(control, token, namespace: nil)
      @wire = Wire.new(control, token)
      @namespace = namespace
    end

    # The parts of pages that the application makes. Make one for the life of the application. Options are those of
    # Fragments#initialize.
    def fragments(**options) = Fragments.new(@wire, namespace: @namespace, **options)

    # Purges on every node; returns when it is in force. The words are tags, urls, below, routes, hosts, all, mode
    # and reason. Raises Refused or Unreached: then nothing is known to be purged.
    def purge(all: false, mode: "drop", reason: "", **named)
      unknown = named.keys - %i[tags urls below routes hosts]
      raise ArgumentError, "a purge names tags, urls, below, routes, hosts or all; there is no #{unknown.join(', ')}" unless unknown.empty?

      named.each { |name, list| raise TypeError, "#{name} is a list; write [#{list.inspect}]" unless list.is_a?(Array) }
      raise ArgumentError, "the purge names nothing; give tags, urls, below, routes or hosts, or all: true" if named.values.all?(&:empty?) && !all

      order("/v1/purges", named.reject { |_, list| list.empty? }.merge(all ? { all: true } : {}, mode: mode, reason: reason))
    end

    # Tells of something that changed, after the commit; before nil is a create, after nil a delete. Returns when
    # what it makes stale is purged.
    def changed(kind, before, after)
      operation = if before.nil? then "create"
                  else after.nil? ? "delete" : "update"
                  end
      order("/v1/changes", { changes: [{ kind: kind, op: operation, before: before, after: after }.compact] })
    end

    private

    def order(path, order)
      @wire.json("POST", path, order)
    ensure
      Scope.purges += 1
    end
  end
end
