# frozen_string_literal: true

require "zlib"

module Gerastic
  # Found, or filled once for all who ask. When the node cannot be reached, everything is filled as if it were
  # not there. The words for a fragment are name, parts, version, lifetime, stale, tags and nothing.
  class Fragments
    MOST_KEYS = 1000
    MOST_CHECKS = 16
    FOUND = %w[fresh stale].freeze
    ENDED = { waited: :waited, filled: :filled, alone: :filled }.freeze

    # Options are timeout, wait and lease (lengths of time), off, check (a share), lifetime and tags of every fragment,
    # and warn, which takes a line.
    def initialize(wire, namespace: nil, timeout: 0.25, wait: "5s", lease: "30s", off: nil, check: 0, lifetime: nil, tags: [], warn: nil)
      @wire = wire
      @own = namespace
      @namespace = namespace.to_s
      @timeout, @wait, @lease = Gerastic.seconds(timeout, "timeout"), Gerastic.seconds(wait, "wait"), Gerastic.seconds(lease, "lease")
      @off = off.nil? ? ENV.fetch("GERASTIC_FRAGMENTS", "").downcase == "off" : off
      raise ArgumentError, "check is a share from 0 to 1" unless (0..1).cover?(check)

      @share = check
      @defaults = { lifetime: lifetime, tags: tags }
      @warn = warn || ->(text) { Kernel.warn("gerastic: #{text}") }
      @warned = {}
      @counts = %i[found filled waited failed].to_h { |word| [word, 0] }
      @lock = Mutex.new
      @turns = {}
      @behind = []
      @at_hand = AtHand.new
      @check = Check.new
      @checking = 0 # loads whose keys are checked behind their callers
    end

    # Returns a fragment as it is stored, or as the block makes it, which is then stored for everyone.
    def load_or_fill(**item, &fill) = fetch([item], ->(_) { fill.call }, fill).first

    # Does the same for a thing with fragment_key and perhaps fragment_tags; the block may take it.
    def of(thing, callable = nil, &block)
      fill = callable || block
      fetch([Item.words_of(thing)], ->(_) { fill.arity.zero? ? fill.call : fill.call(thing) }, fill).first
    end

    # Does the same for many: one trip finds them, the block makes those that are missing, one trip stores them.
    def load_or_fill_all(items, &fill) = fetch(items, fill, fill)

    # A fragment as bytes, or nil if it is not there, or stale.
    def load(**item) = load_all([item]).first

    # Many fragments, nil for those that are not there.
    def load_all(items)
      scope = Scope.current || Scope.new
      all = wanted(items, scope, :itself)
      asked = @off ? [] : all.reject { |one| one.key.empty? || again?(scope, one) }
      asked.each_slice(MOST_KEYS) do |open|
        stamp, answers = look(open, { "fresh" => true }, 0.0)
        open.zip(answers || []) { |one, answer| use(scope, one, answer, stamp) if answer && fresh?(answer) }
      end
      all.map { |one| one.done && one.value ? one.value.b : nil }
    end

    # Stores a fragment; false if a purge of it came since it was last looked up here, or the node was not reached.
    def store(value, **item)
      one = Item.new(item, nil, @defaults).lasting
      one.since = @at_hand.seen(one.key)
      one.made(Scope.new, value, now)
      Scope.current&.found&.delete(one.key)
      # A lease of its own, so that a purge that comes now is not overtaken.
      _, answers = @off ? nil : look([one], { "renew" => true }, @lease)
      one.lease = answers&.first&.fetch("lease", nil)
      !one.lease.nil? && keep([one], direct: true) == 1
    end

    # Drops a fragment on every node. Raises Refused or Unreached.
    def drop(**item)
      key = Gerastic.key_of(item[:name], item[:parts] || [], item[:version])
      Scope.current&.found&.delete(key)
      @wire.json("DELETE", "/v1/fragments/#{URI.encode_www_form_component(key).gsub('+', '%20')}#{Wire.query(@own)}")
      nil
    end

    # Runs a block that makes a page; what goes into it is noted, see Scope#headers.
    def page(request_headers = nil, &block) = Scope.new(request_headers: request_headers).within(&block)

    # Notes that what is being made here shows these things.
    def tag(*tags) = Scope.current&.tag(*tags)

    # Counts what it took to make what is being made here: did(queries: 1, rows: 20).
    def did(**amounts) = Scope.current&.did(**amounts)

    # Counts the notifications of a library that sends some as queries, such as sql.active_record.
    def count_queries(name = "sql.active_record", notifications = ActiveSupport::Notifications)
      notifications.subscribe(name) { did(queries: 1) }
    end

    # Templates of ERB in a directory; see Templates.
    def templates(directory) = Templates.new(self, directory)

    # What became of fragments: found, filled here, waited for; failed: the node was not reached.
    def counts = @lock.synchronize { @counts.dup }

    # Waits for the fills that go on behind callers.
    def settle
      @lock.synchronize { @behind.dup }.each(&:join)
    end

    private

    def now = Process.clock_gettime(Process::CLOCK_MONOTONIC)

    # Reads many. One that is not in order is filled all the same, and a line says what is wrong.
    def wanted(items, scope, also = :lasting)
      items.map do |words|
        Item.new(words, scope, @defaults).public_send(also)
      rescue ArgumentError, TypeError => e
        warn_of(e.message)
        Item.bad(words)
      end
    end

    def fetch(items, fill, code)
      scope = Scope.current || Scope.new
      all = wanted(items, scope)
      all.reject { |one| one.key.empty? }.map { |one| one.words[:name] }.uniq.each { |name| (line = @check.copied(name, code)) && warn_of(line) } if @share.positive?
      if @off
        fill_all(all, fill)
      else
        settle_all(scope, all, fill)
        check(all, fill, code)
      end
      all.each { |one| raise one.error if one.error }
      all.map(&:value)
    end

    def settle_all(scope, all, fill)
      alone(scope, all.select { |one| one.key.empty? }, fill)
      first = {} # each fragment costs one trip
      all.each { |one| first[one.key] ||= one unless one.key.empty? }
      first.values.reject { |one| again?(scope, one) }.each_slice(MOST_KEYS) { |batch| settle_batch(scope, batch, fill) }
      all.each do |one|
        same = first[one.key]
        next if same.nil? || same.equal?(one)

        one.take(same.result)
        ended(one, :reused)
      end
    end

    # Uses what this page has of a fragment already; nothing stale goes into a fragment.
    def again?(scope, one)
      found = scope.found[one.key]
      return false if found.nil? || found.until <= Gerastic.clock || found.purges != Scope.purges || (found.stale && scope.fragment)

      reuse(scope, one, found)
    end

    def reuse(scope, one, found, age = 0.0)
      one.value = found.value
      scope.hold(one.key, one.within(@namespace), found)
      ended(one, :reused, age)
      true
    end

    # Its own fills come before it waits for those of others, who may be waiting for them.
    def settle_batch(scope, open, fill)
      4.times do
        stamp, answers = open.empty? ? nil : look(open, scope.fragment ? { "fresh" => true } : {}, @lease)
        break unless answers

        mine, others, off = [], [], []
        open.each_with_index do |one, n|
          answer = answers[n]
          next use(scope, one, answer, stamp) if answer.is_a?(Scope::Found)

          one.lease = answer["lease"]
          if FOUND.include?(answer["state"]) && use(scope, one, answer, stamp)
            fill_behind(one.again(one.lease), fill) if one.lease
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
      unreached(e)
    end

    def unreached(error)
      count(:failed)
      warn_of("fragments are made without Gerastic", error)
      nil
    end

    def look(open, how, lease)
      wait = lease.zero? ? 0.0 : @wait
      keys = open.map(&:key)
      had = @at_hand.of(keys)
      ask = { "keys" => keys, "have" => had.map { |kept| kept ? kept[0] : "" }, "wait" => wait * 1000.0, "lease" => lease * 1000.0 }
      items = call("lookup", [ask.merge(how)], wait)
      return unless items

      head, *found = items
      answers = Array.new(open.size)
      found.each { |answer| answer["same"] ? same(answer, had, answers, head["stamp"]) : answers[answer["at"]] = answer }
      raise TypeError unless head["stamp"].is_a?(Integer) && answers.size == open.size && answers.none?(&:nil?)

      @namespace = head["namespace"]
      @at_hand.saw(keys, head["stamp"]) unless how["renew"]
      [head["stamp"], answers]
    rescue TypeError, NoMethodError
      unreached("its answer cannot be read")
    end

    # Notes an answer of several, whose values are at hand.
    def same(answer, had, answers, stamp)
      ages, lives, tags = answer.values_at("ages", "lives", "tagsets")
      answer["same"].each_with_index do |at, n|
        answers[at] = Scope::Found.new(had[at][1].dup, tags && tags[n], ends(lives[n]), stamp, false, ages[n])
      end
    end

    def ends(left) = left > FOREVER / 2 ? Float::INFINITY : Gerastic.clock + left

    def fresh?(answer) = answer.is_a?(Scope::Found) || answer["state"] == "fresh"

    def keep(all, direct: false)
      results = call("store", all.map { |one| one.offer(direct: direct) }, 3 * @timeout) || []
      all.zip(results).count do |one, result|
        result = {} unless result.is_a?(Hash)
        warn_of("the fragment #{one.words[:name]} cannot be stored", result["why"]) unless one.error || [nil, "overtaken"].include?(result["refused"])
        result["stored"] == true
      end
    end

    def use(scope, one, answer, stamp)
      return reuse(scope, one, answer, answer.age) if answer.is_a?(Scope::Found)

      one.value = read(one, answer)
      return false if one.value == false

      scope.hold(one.key, one.within(@namespace), Scope::Found.new(one.value, answer["tags"], ends(answer["left"]), stamp, answer["state"] == "stale"))
      found = if answer["state"] == "stale" then :stale
              else answer["waited"] ? :waited : :reused
              end
      ended(one, found, answer["age"].to_f)
      true
    rescue Zlib::Error, NoMethodError, TypeError
      false # whoever stored it did not do what they said
    end

    # The value of a body that came, which is at hand from now on; false if it cannot be read.
    def read(one, answer)
      body = answer["coding"] == "gzip" ? Zlib.gunzip(answer["body"]) : answer["body"]
      value = Item.read(body, answer["type"] || Item::TEXT)
      @at_hand.put(one.key, answer["etag"], value.dup) if answer["etag"] && value != false
      value
    end

    def take(scope, one, stamp, found)
      return if one.error

      inner = one.scope
      scope.hold(one.key, one.within(@namespace), Scope::Found.new(one.value, one.tags + inner.tags.keys, one.until, [stamp, inner.stamp].min, false)) unless one.key.empty?
      ended(one, found)
    end

    def ended(one, found, age = 0.0)
      count(ENDED.fetch(found, :found))
      one.done = true
      return if one.key.empty?

      told = one.told
      told[:key] = one.within(@namespace)
      told[:found] = found.name
      told[:took] = (now - one.began) * 1000
      told[:age] = age
    end

    def count(word) = @lock.synchronize { @counts[word] += 1 }

    def fill_all(all, fill)
      all.each do |one|
        inner = Scope.new(outer: Scope.current, fragment: true, depth: one.told[:depth] || 1)
        began = now
        one.made(inner, inner.within { fill.call(one.words) }, began)
      rescue StandardError => e
        one.error = e
      end
    end

    # It was made after it was asked for: no purge that a page of it knows is missing.
    def alone(scope, all, fill)
      all.each do |one|
        one.key.empty? ? fill_all([one], fill) : turn(one) { fill_all([one], fill) }
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
        return one.take(mine.result)
      end
      before&.done&.pop
      yield
    ensure
      if lead
        mine.result = one.result
        @lock.synchronize { mine.next ? @turns[one.key] = mine.next : @turns.delete(one.key) }
        mine.done.close # whoever pops goes on
      end
    end

    def behind(&work)
      @lock.synchronize do
        @behind.select!(&:alive?)
        @behind << Thread.new(&work)
      end
    end

    def fill_behind(again, fill)
      behind do
        fill_all([again], fill)
        again.error ? warn_of("a fragment could not be made anew behind a caller", again.error) : count(:filled)
        keep([again])
      end
    end

    # Fills a share of what was found, one after the other behind the caller; while many do, no more begin.
    def check(all, fill, code)
      return unless @share.positive?

      some = all.select { |one| one.told[:found] == "reused" && rand < @share }
      return if some.empty? || @lock.synchronize { (@checking += 1) > MOST_CHECKS && (@checking -= 1) }

      behind do
        some.each { |one| compare(one.again, one.value, fill, code) }
      ensure
        @lock.synchronize { @checking -= 1 }
      end
    end

    # Fills what was found. Twice, since what is made differently each time says nothing of the key; and after a
    # moment it is there still, if no purge explains the difference.
    def compare(one, found, fill, code)
      return unless @check.due?(one.words[:name])

      made = Array.new(2) do
        fill_all([one], fill)
        return if one.error || one.value.to_s.b == found.to_s.b

        one.value.to_s.b
      end
      return unless made[0] == made[1]

      sleep Check::GRACE
      stamp, answers = look([one], { "fresh" => true }, 0.0)
      return unless answers && fresh?(answers.first) && use(Scope.new, again = one.again, answers.first, stamp) && again.value.to_s.b == found.to_s.b && @check.first?(one.words[:name])

      clash = @check.clash(one, code, found, one.value)
      warn_of(Check.line(clash))
      @wire.json("POST", "/v1/fragments/clashes#{Wire.query(@own)}", clash)
    rescue Refused, Unreached => e
      warn_of("the clash could not be noted", e)
    end

    # Warns, of each thing at most once in ten seconds.
    def warn_of(text, error = nil)
      line = (error ? "#{text}: #{error.respond_to?(:message) ? error.message : error}" : text).lines.first.to_s.chomp
      @lock.synchronize do
        return if @warned[line] && now - @warned[line] < 10

        @warned.clear if @warned.size >= 100
        @warned[line] = now
      end
      @warn.call(line)
    end
  end
end
