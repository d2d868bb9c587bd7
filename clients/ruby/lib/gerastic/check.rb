# frozen_string_literal: true

module Gerastic
  # A wrong key is noticed: what was found is filled, too, and compared.
  class Check
    GRACE = 1.0 # seconds in which a purge may come that explains a difference
    SAMPLE = 400
    MOST_NAMES = 1000

    def initialize
      @lock = Mutex.new
      @places = {}
      @told = {}
    end

    # What is wrong, if another place fills this name otherwise; nil if none does.
    def copied(name, fill)
      place = fill.source_location
      return unless place

      before = @lock.synchronize do
        @places[name] = fill if !@places.key?(name) && @places.size < MOST_NAMES
        @places[name]
      end
      return if before.nil? || before.source_location == place || shape(before) == shape(fill)

      "the fragment #{name} is filled in two places, #{before.source_location.join(':')} and #{place.join(':')}; give each a name of its own, or share one fill"
    end

    # Reports whether a clash of a name would be the first in a minute.
    def due?(name)
      @lock.synchronize { @told[name].nil? || Process.clock_gettime(Process::CLOCK_MONOTONIC) - @told[name] >= 60 }
    end

    # Reports the same, and notes it.
    def first?(name)
      return false unless due?(name)

      now = Process.clock_gettime(Process::CLOCK_MONOTONIC)
      @lock.synchronize do
        @told.clear if @told.size >= MOST_NAMES
        @told[name] = now
      end
      true
    end

    # What is told of a clash.
    def clash(one, fill, found, made)
      found, made = [found, made].map { |text| text.to_s.dup.force_encoding(Encoding::UTF_8).scrub }
      at = (0...[found.size, made.size].min).find { |i| found[i] != made[i] } || [found.size, made.size].min
      from = [found.size, made.size].max > SAMPLE ? [0, at - SAMPLE / 2].max : 0
      { key: one.key, samples: [found[from, SAMPLE], made[from, SAMPLE]], missing: missing(one, fill, found, made) }
    end

    # The line of a clash.
    def self.line(clash)
      likely = clash[:missing].empty? ? "" : ", likely #{clash[:missing]}"
      found, made = clash[:samples].map { |sample| sample.split.join(" ")[0, 80] }
      "the key #{clash[:key]} leaves something out#{likely}: what was there is '#{found}', and a fill made '#{made}'"
    end

    private

    # What a block does, but for the numbers in it, and however its variables are called; its place, where that cannot
    # be known.
    def shape(fill)
      plain = lambda do |node|
        next node.is_a?(Numeric) ? 0 : node unless node.is_a?(RubyVM::AbstractSyntaxTree::Node)

        %i[LVAR DVAR].include?(node.type) ? node.type : [node.type, *node.children.map(&plain)]
      end
      plain.call(RubyVM::AbstractSyntaxTree.of(fill))
    rescue StandardError, NameError
      fill.source_location
    end

    # The argument that the key likely leaves out: one whose value stands in what was made, and not in what was found.
    def missing(one, fill, found, made)
      parts = (one.words[:parts] || []).map(&:to_s)
      left_out = values(fill).reject { |_, text| text.empty? || parts.include?(text) }
      left_out.each { |name, text| return name if made.match?(/\b#{Regexp.escape(text)}/) && !found.match?(/\b#{Regexp.escape(text)}/) }
      left_out.size == 1 ? left_out.keys.first : ""
    end

    # The values that a block holds, by name, with those of the instance variables of what it holds.
    def values(fill)
      around = fill.binding
      held = around.local_variables.to_h { |name| [name.to_s, around.local_variable_get(name)] }
      held.merge!(around.receiver.instance_variables.to_h { |name| [name.to_s, around.receiver.instance_variable_get(name)] })
      held.to_a.each do |name, thing|
        fields = thing.is_a?(Hash) ? thing.first(50) : thing.instance_variables.first(50).map { |field| [field.to_s.delete_prefix("@"), thing.instance_variable_get(field)] }
        fields.concat(thing.to_h.to_a) if thing.is_a?(Struct)
        fields.each { |field, value| held["#{name}.#{field}"] = value }
      end
      held.select { |_, value| [String, Symbol, Numeric, true, false].any? { |kind| kind === value } }.transform_values(&:to_s)
    rescue ArgumentError
      {} # a block that was made of a method has no variables
    end
  end
end
