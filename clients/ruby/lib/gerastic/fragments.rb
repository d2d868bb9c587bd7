# frozen_string_literal: true

require "stringio"
require "zlib"

module Gerastic
  # Found, or filled once for all who ask. When the node cannot be reached, everything is filled as if it were
  # not there. The words for a fragment are name, parts, version, lifetime, stale and tags.
  class Fragments
    MOST_KEYS = 1000
    PACK_FROM = 16 << 10
    TEXT = "text/html; charset=utf-8"
    BYTES = "application/octet-stream"
    WORDS = %i[name parts version lifetime stale tags].freeze

    # One fragment on its way through a load.
    Wanted = Struct.new(:item, :key, :lifetime, :stale, :tags, :told, :lease, :began, :done, :value, :scope, :took, :until, :error, keyword_init: true)

    attr_reader :counts

    def initialize(wire, namespace: nil, timeout: 0.25, wait: "5s", lease: "30s", off: nil, warn: nil)
      @wire = wire
      @own = namespace
      @namespace = namespace.to_s
      @timeout, @wait, @lease = Gerastic.seconds(timeout, "timeout"), Gerastic.seconds(wait, "wait"), Gerastic.seconds(lease, "lease")
      @off = off.nil? ? ENV.fetch("GERASTIC_FRAGMENTS", "").downcase == "off" : off
      @warn = warn || ->(text) { Kernel.warn(text) }
      @counts = %i[reused stale waited filled alone unreached refused].to_h { |word| [word, 0] }
      @lock = Mutex.new
      @turns = {}
      @behind = []
    end

    # Returns a fragment as it is stored, or as the block makes it, which is then stored for everyone.
    def load_or_fill(**item, &fill)
      load_or_fill_all([item]) { fill.call }.first
    end

    # Does the same for many: one trip finds them, the block makes those that are missing, one trip stores them.
    def load_or_fill_all(items, &fill)
      scope = Scope.current || Scope.new
      all = items.map { |item| wanted(item, scope) }
      if @off
        fill_all(all, fill)
      else
        all.each_slice(MOST_KEYS) { |batch| settle_batch(scope, batch, fill) }
      end
      all.each { |one| raise one.error if one.error }
      all.map(&:value)
    end

    # A fragment as bytes, or nil if it is not there, or stale.
    def load(**item) = load_all([item]).first

    # Many fragments, nil for those that are not there.
    def load_all(items)
      scope = Scope.current || Scope.new
      all = items.map { |item| wanted(item, scope, needs_life: false) }
      (@off ? [] : all).each_slice(MOST_KEYS) do |open|
        stamp, answers = look(open, { "fresh" => true }, 0.0)
        open.zip(answers || []) { |one, answer| use(scope, one, answer, stamp) if answer && answer["state"] == "fresh" }
      end
      all.map { |one| one.done ? one.value.b : nil }
    end

    # Stores a fragment; false if a purge came between, or the node was not reached.
    def store(value, **item)
      one = wanted(item, Scope.new)
      made(one, Scope.new, value, now)
      # A lease of its own, so that a purge that comes now is not overtaken.
      _, answers = @off ? nil : look([one], { "renew" => true }, @lease)
      one.lease = answers&.first&.fetch("lease", nil)
      !one.lease.nil? && keep([one]) == 1
    end

    # Drops a fragment on every node. Raises Refused or Unreached.
    def drop(**item)
      key = Gerastic.key_of(item[:name], item[:parts] || [], item[:version])
      @wire.json(Net::HTTP::Delete, "/v1/fragments/#{URI.encode_www_form_component(key).gsub('+', '%20')}#{Wire.query(@own)}")
      nil
    end

    # Runs a block that makes a page; what goes into it is noted, see Scope#headers.
    def page(&block) = Scope.new.within(&block)

    # Notes that what is being made here shows these things.
    def tag(*tags) = Scope.current&.tag(*tags)

    # Waits for the fills that go on behind callers.
    def settle
      @lock.synchronize { @behind.dup }.each(&:join)
    end

    private

    def now = Process.clock_gettime(Process::CLOCK_MONOTONIC)

    def wanted(item, scope, needs_life: true)
      item = item.transform_keys(&:to_sym)
      unknown = item.keys - WORDS
      raise ArgumentError, "a fragment has name, parts, version, lifetime, stale and tags; it has no #{unknown.join(', ')}" unless unknown.empty?

      key = Gerastic.key_of(item[:name], item[:parts] || [], item[:version])
      life = Gerastic.seconds(item[:lifetime] || 0)
      raise ArgumentError, %(the fragment #{item[:name]} has no lifetime; give one, such as lifetime: "1h", or "forever" if only purges and versions end it) if needs_life && life <= 0
      raise TypeError, "the tags of the fragment #{item[:name]} are a list; write [#{item[:tags].inspect}]" unless item[:tags].nil? || item[:tags].is_a?(Array)

      told = { key: "", found: "", took: 0.0, age: 0.0, depth: scope.depth + 1 }
      scope.report << told
      Wanted.new(item: item, key: key, lifetime: life, stale: Gerastic.seconds(item[:stale] || 0, "stale"), tags: (item[:tags] || []).map(&:to_s), told: told, began: now)
    end

    # Its own fills come before it waits for those of others, who may be waiting for them.
    def settle_batch(scope, open, fill)
      4.times do
        stamp, answers = open.empty? ? nil : look(open, scope.fragment ? { "fresh" => true } : {}, @lease)
        break unless answers

        mine, others, off = [], [], []
        open.zip(answers) do |one, answer|
          one.lease = answer["lease"]
          if %w[fresh stale].include?(answer["state"]) && use(scope, one, answer, stamp)
            fill_behind(one, fill) if one.lease
          else # what is switched off, or cannot be read, is filled without being stored
            { "yours" => mine, "filling" => others }.fetch(answer["state"], off) << one
          end
        end
        unless mine.empty?
          fill_all(mine, fill)
          keep(mine)
        end
        mine.each { |one| take(scope, one, stamp, :filled) }
        alone(scope, off, fill)
        open = others
        break if mine.empty? # it waited already
      end
      alone(scope, open, fill)
    end

    def call(what, values, more)
      @wire.items(what, @own, values, @timeout, more)
    rescue Unreached => e
      count(:unreached)
      warn_of("fragments are made without Gerastic", e)
      nil
    end

    def look(open, how, lease)
      wait = lease.zero? ? 0.0 : @wait
      items = call("lookup", [{ "keys" => open.map(&:key), "wait" => wait * 1000.0, "lease" => lease * 1000.0, "details" => true }.merge(how)], wait)
      return unless items

      head, *found = items
      answers = Array.new(open.size)
      found.each { |answer| answers[answer["at"]] = answer }
      raise TypeError unless head["stamp"].is_a?(Integer) && answers.size == open.size && answers.none?(&:nil?)

      @namespace = head["namespace"]
      [head["stamp"], answers]
    rescue TypeError, NoMethodError
      count(:unreached)
      warn_of("fragments are made without Gerastic", Unreached.new("its answer is not whole"))
      nil
    end

    def keep(all)
      results = call("store", all.map { |one| offer(one) }, 3 * @timeout) || []
      stored = results.count { |result| result.is_a?(Hash) && result["stored"] == true }
      count(:refused, [0, [results.size, all.count { |one| one.error.nil? }].min - stored].max)
      stored
    end

    def offer(one)
      life = one.until.nil? || one.until.infinite? ? FOREVER : one.until - Time.now.to_f
      return { "key" => one.key, "lease" => one.lease, "failed" => true } if one.error || one.scope.nil? || (life <= 0 && one.stale <= 0)

      body, coding = one.value.b, ""
      if body.bytesize >= PACK_FROM && (short = Zlib.gzip(body)).bytesize < 0.9 * body.bytesize
        body, coding = short, "gzip"
      end
      { "key" => one.key, "lease" => one.lease, "type" => one.value.encoding == Encoding::BINARY ? BYTES : TEXT, "coding" => coding, "life" => [0.0, life].max.to_f,
        "stale" => one.stale.to_f, "cost" => one.took * 1000.0, "tags" => (one.tags + one.scope.tags.keys).uniq, "parts" => one.scope.parts.keys, "body" => body }
    end

    def use(scope, one, answer, stamp)
      body = answer["coding"] == "gzip" ? Zlib.gunzip(answer["body"]) : answer["body"].dup
      kind = answer["type"] || TEXT
      body.force_encoding(kind.start_with?("text/") || kind.match?(/json|utf-8/) ? Encoding::UTF_8 : Encoding::BINARY)
      return false unless body.valid_encoding?

      one.value = body
      ends = answer["left"] > FOREVER / 2 ? Float::INFINITY : Time.now.to_f + answer["left"]
      scope.hold("#{@namespace}/#{one.key}", answer["tags"] || [], ends, stamp)
      found = if answer["state"] == "stale" then :stale
              else answer["waited"] ? :waited : :reused
              end
      ended(one, found, answer["age"].to_f)
      true
    rescue Zlib::Error, NoMethodError, TypeError
      false # whoever stored it did not do what they said
    end

    def take(scope, one, stamp, found)
      return if one.error

      inner = one.scope
      scope.hold("#{@namespace}/#{one.key}", one.tags + inner.tags.keys, one.until, [stamp, inner.stamp].min)
      ended(one, found)
    end

    def ended(one, found, age = 0.0)
      count(found)
      one.done = true
      one.told.merge!(key: "#{@namespace}/#{one.key}", found: found.to_s, took: (now - one.began) * 1000, age: age)
    end

    def count(word, n = 1) = @lock.synchronize { @counts[word] += n }

    def made(one, inner, value, began)
      raise TypeError, "the fill of the fragment #{one.item[:name]} returned a #{value.class}; return a string" unless value.is_a?(String)

      one.value, one.scope, one.took = value, inner, now - began
      one.until = [one.lifetime >= FOREVER ? Float::INFINITY : Time.now.to_f + one.lifetime, inner.until].min
    end

    def fill_all(all, fill)
      all.each do |one|
        outer = Scope.current
        inner = Scope.new(fragment: true, depth: one.told[:depth] || 1, report: outer ? outer.report : [])
        began = now
        made(one, inner, inner.within { fill.call(one.item) }, began)
      rescue StandardError => e
        one.error = e
      end
    end

    # It was made after it was asked for: no purge that a page of it knows is missing.
    def alone(scope, all, fill)
      all.each do |one|
        turn(one) { fill_all([one], fill) }
        take(scope, one, Float::INFINITY, :alone)
      end
    end

    Turn = Struct.new(:done, :next, :result)

    # One at a time makes what many want. Whoever comes meanwhile gets what the next one makes, which is not
    # older than their asking.
    def turn(one)
      before, mine, lead = @lock.synchronize do
        running = @turns[one.key]
        waiting = running&.next
        fresh = waiting ? nil : Turn.new(Queue.new)
        if fresh
          running ? running.next = fresh : @turns[one.key] = fresh
        end
        [running, waiting || fresh, !waiting]
      end
      unless lead
        mine.done.pop
        one.value, one.scope, one.until, one.took, one.error = mine.result
        return
      end
      before&.done&.pop
      yield
    ensure
      if lead
        mine.result = [one.value, one.scope, one.until, one.took, one.error]
        @lock.synchronize { mine.next ? @turns[one.key] = mine.next : @turns.delete(one.key) }
        mine.done.close # whoever pops goes on
      end
    end

    def fill_behind(one, fill)
      again = Wanted.new(item: one.item, key: one.key, lifetime: one.lifetime, stale: one.stale, tags: one.tags, told: {}, lease: one.lease, began: now)
      @lock.synchronize do
        @behind.select!(&:alive?)
        @behind << Thread.new do
          fill_all([again], fill)
          again.error ? warn_of("a fragment could not be made anew behind a caller", again.error) : count(:filled)
          keep([again])
        end
      end
    end

    # Warns, at most once in ten seconds.
    def warn_of(text, error)
      return if @warned && now - @warned < 10

      @warned = now
      @warn.call("#{text}: #{error.message}")
    end
  end
end
