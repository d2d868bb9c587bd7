# frozen_string_literal: true

require "zlib"

module Gerastic
  # One fragment on its way through a load: what an application says of it, and what became of it.
  class Item
    WORDS = %i[name parts version lifetime stale tags nothing].freeze
    KNOWN = WORDS.to_h { |word| [word, true] }.freeze
    PACK_FROM = 16 << 10
    TEXT = "text/html; charset=utf-8"
    BYTES = "application/octet-stream"
    NOTHING = "application/x-nothing"
    NONE = [].freeze

    attr_reader :words, :key, :lifetime, :stale, :tags, :told, :began, :nothing
    attr_accessor :lease, :done, :value, :etag, :scope, :took, :until, :error, :since

    # Reads the words; an ArgumentError or TypeError says what is wrong with them.
    def initialize(words, scope, options)
      words.each_key { |word| KNOWN[word] || (break words = Item.in_symbols(words)) }

      name = words[:name]
      @words = words
      @key = Gerastic.key_of(name, words[:parts] || NONE, words[:version]).freeze # else each map that has it copies it
      @lifetime = life(:lifetime, words[:lifetime] || options[:lifetime])
      raise TypeError, "the tags of the fragment #{name} are a list" unless words[:tags].nil? || words[:tags].is_a?(Array)

      @tags = words[:tags] || !options[:tags].empty? ? (options[:tags] + (words[:tags] || [])).map(&:to_s).uniq : NONE
      @stale, @nothing = life(:stale, words[:stale]), life(:nothing, words[:nothing])
      @told = scope ? scope.begin_one : {}
      @began = Process.clock_gettime(Process::CLOCK_MONOTONIC)
      @until = Float::INFINITY
    end

    # The key in a namespace, as pages are told of it.
    def within(namespace) = @within ||= "#{namespace}/#{@key}".freeze

    # Itself, if it says for how long it may be stored.
    def lasting
      return self if @lifetime.positive?

      raise ArgumentError, "the fragment #{@words[:name]} has no lifetime; give one, such as 1h, or forever if only purges and versions end it"
    end

    def self.in_symbols(words)
      words = words.transform_keys(&:to_sym)
      unknown = words.keys - WORDS
      raise ArgumentError, "a fragment has #{WORDS.join(', ')}; it has no #{unknown.join(', ')}" unless unknown.empty?

      words
    end

    # One that is not in order: it is filled all the same, and has no key.
    def self.bad(words) = allocate.tap { |one| one.send(:without_key, words) }

    # The words of a thing that says its own name, parts, version and lifetime (fragment_key) and tags (fragment_tags).
    def self.words_of(thing)
      raise TypeError, "of takes a thing with fragment_key, which returns name, parts, version and lifetime" unless thing.respond_to?(:fragment_key)

      said = thing.fragment_key
      words = said.is_a?(Hash) ? said.transform_keys(&:to_sym) : %i[name parts version lifetime].zip(Array(said)).to_h
      words[:tags] = thing.fragment_tags if thing.respond_to?(:fragment_tags)
      words.compact
    end

    def again(lease = nil)
      dup.tap do |one|
        one.instance_variable_set(:@told, {})
        one.lease = lease
      end
    end

    # Notes what a fill brought.
    def made(inner, value, began)
      raise TypeError, "the fill of the fragment #{words[:name]} returned neither text nor bytes" unless value.nil? || value.is_a?(String)

      life = value.nil? && nothing.positive? ? nothing : lifetime
      self.value, self.scope, self.took = value, inner, Process.clock_gettime(Process::CLOCK_MONOTONIC) - began
      self.until = [life >= FOREVER ? Float::INFINITY : Gerastic.clock + life, inner.until].min
    end

    def result = [value, scope, self.until, took, error]

    def take(result)
      self.value, self.scope, self.until, self.took, self.error = result
    end

    # What is stored; or the lease given back, if the fill failed, brought nothing, or what is in it ended.
    def offer(direct: false)
      life = self.until.infinite? ? FOREVER : self.until - Gerastic.clock
      return { "key" => key, "lease" => lease, "failed" => true } if error || scope.nil? || (life <= 0 && stale <= 0) || (value.nil? && nothing <= 0)

      body, coding = (value || "").b, ""
      if body.bytesize >= PACK_FROM && (short = Zlib.gzip(body)).bytesize < 0.9 * body.bytesize
        body, coding = short, "gzip"
      end
      kind = if value.nil? then NOTHING
             else value.encoding == Encoding::BINARY ? BYTES : TEXT
             end
      offer = { "key" => key, "lease" => lease, "type" => kind, "coding" => coding, "life" => [0.0, life].max.to_f, "stale" => stale.to_f, "cost" => took * 1000.0,
                "tags" => (tags + scope.tags.keys).uniq, "parts" => scope.parts.keys, "body" => body, "work" => scope.work.transform_values(&:to_f) }
      offer["direct"] = true if direct
      offer["since"] = since if direct && since
      offer
    end

    # A body as it was filled: text or bytes, or nil for nothing; false if it cannot be read.
    def self.read(body, kind)
      return nil if kind == NOTHING

      text = body.dup.force_encoding(kind.start_with?("text/") || kind.match?(/json|utf-8/) ? Encoding::UTF_8 : Encoding::BINARY)
      text.valid_encoding? ? text : false
    end

    private

    def life(word, time)
      return 0.0 if time.nil?
      return Gerastic::READ[time] if Gerastic::READ.key?(time)

      Gerastic.seconds(time, "#{word} of the fragment #{@words[:name]}")
    end

    def without_key(words)
      @words, @key, @lifetime, @stale, @nothing, @tags, @told = words, "", 0.0, 0.0, 0.0, [], {}
      @began = Process.clock_gettime(Process::CLOCK_MONOTONIC)
      @until = Float::INFINITY
    end
  end

  # Bodies that the node need not send again, and when each key was last looked up. Safe for threads.
  class AtHand
    MOST_BYTES = 16 << 20
    MOST = 10_000

    def initialize
      @lock = Mutex.new
      @kept = {} # key: validator, value; the oldest first
      @seen = {}
      @bytes = 0
    end

    def of(keys)
      @lock.synchronize do
        keys.map { |key| (kept = @kept.delete(key)) && @kept[key] = kept }
      end
    end

    def put(key, etag, value)
      @lock.synchronize do
        @bytes -= @kept.delete(key)&.at(1)&.bytesize.to_i
        @kept[key] = [etag, value]
        @bytes += value.to_s.bytesize
        @bytes -= @kept.shift[1][1].to_s.bytesize while @bytes > MOST_BYTES || @kept.size > MOST
      end
    end

    def saw(keys, stamp)
      @lock.synchronize do
        keys.each do |key|
          @seen.delete(key)
          @seen[key] = stamp
        end
        @seen.shift while @seen.size > MOST
      end
    end

    def seen(key) = @lock.synchronize { @seen[key] }
  end
end
