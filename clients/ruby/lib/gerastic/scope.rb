# frozen_string_literal: true

require "digest"
require "time"

module Gerastic
  # What goes into a page, or into a fragment while it is filled: its tags, the shortest life, the fragments and
  # the work.
  class Scope
    MOST_REPORT = 500
    MOST_KEPT = 1000
    # What a page has of a fragment already.
    class Found
      attr_reader :value, :tags, :until, :stamp, :stale, :age, :purges

      def initialize(value, tags, ends, stamp, stale, age = 0.0)
        @value, @tags, @until, @stamp, @stale, @age = value, tags, ends, stamp, stale, age
        @purges = Scope.purges
      end
    end

    @purges = 0
    class << self
      # How many purges this process has ordered: what a page had at hand before one may be old.
      attr_accessor :purges
    end

    attr_reader :tags, :parts, :until, :stamp, :fragment, :depth, :report, :found, :work, :not_modified

    # The page or fragment that is being made, in this thread or fiber.
    def self.current = Thread.current[:gerastic_scope]

    def initialize(outer: nil, fragment: false, depth: 0, request_headers: nil)
      @tags = {}
      @parts = {}
      @until = @stamp = Float::INFINITY # seconds since 1970; ledger sequence
      @holds = false
      @fragment = fragment
      @depth = depth
      @report = outer ? outer.report : []
      @found = outer ? outer.found : {} # in this page
      @work = {}
      @request_headers = request_headers
      @validators = {}
      @not_modified = false # the visitor has the page already
    end

    # Runs a block that makes the page, or the fragment.
    def within
      outer = Thread.current[:gerastic_scope]
      Thread.current[:gerastic_scope] = self
      yield self
    ensure
      Thread.current[:gerastic_scope] = outer
    end

    # A place in the report for a fragment of this.
    def begin_one
      told = { key: "", depth: @depth + 1 } # as long as it has not ended
      @report << told if @report.size < MOST_REPORT
      told
    end

    # Notes that what is made here shows these things.
    def tag(*tags)
      tags.each { |tag| @tags[tag.to_s] = true }
    end

    # Counts what it took to make this: page.did(queries: 1, rows: 20).
    def did(**amounts)
      amounts.each { |name, amount| @work[name.to_s] = @work.fetch(name.to_s, 0) + amount }
    end

    # Takes a fragment over, and has it at hand for the rest of the page.
    def hold(key, name, found)
      found.tags&.each { |tag| @tags[tag] = true }
      @parts[name] = true
      @until = [@until, found.until].min
      @stamp = [@stamp, found.stamp].min
      @holds = true
      @found[key] = found if @found.size < MOST_KEPT
    end

    # Reports whether the visitor has the page already, by when what it shows changed and what else it depends
    # on. Then the answer is 304 with headers. The page carries the validators in any case. Behind Gerastic::Rack
    # the request's headers are known, and the answer becomes a 304 of itself.
    def unchanged?(request_headers = nil, modified: nil, parts: [])
      given = request_headers || @request_headers
      raise ArgumentError, "unchanged? needs the headers of the request" unless given
      raise ArgumentError, "unchanged? needs to know what the page depends on: modified:, parts:, or both" if modified.nil? && parts.empty?

      etag = %("#{Digest::SHA256.hexdigest(Gerastic.key_of('page', parts, modified))[0, 32]}")
      @validators = { "ETag" => etag }
      @validators["Last-Modified"] = modified.to_time.httpdate if modified
      @not_modified = same?(given.to_h { |name, value| [name.to_s.downcase.tr("_", "-").delete_prefix("http-"), value] }, etag, modified, parts)
    end

    # The headers with which the page tells the edge, and Server-Timing, what is in it.
    def headers
      out = @validators.dup
      out["Gerastic-Work"] = @work.map { |name, amount| "#{name}=#{format('%.3f', amount).sub(/\.?0+\z/, '')}" }.join(", ") unless @work.empty?
      out["Cache-Groups"] = @tags.keys.map { |tag| Gerastic.quoted(tag) }.join(", ") unless @tags.empty?
      if @holds
        left = @until.infinite? ? FOREVER : [0.0, @until - Time.now.to_f].max
        out["Gerastic-Life"] = format("%.3f", (left * 1000).floor / 1000.0) + (@stamp.to_f.infinite? ? "" : ";as-of=#{@stamp.to_i}")
      end
      items = @report.reject { |item| item[:key].empty? }
      return out if items.empty?

      out["Gerastic-Parts"] = items.first(200).map { |item| told(item) }.join(", ")
      sums = %w[reused stale waited filled alone].filter_map { |word| (n = items.count { |item| item[:found] == word }).positive? && "#{n} #{word}" }
      longest = items.filter_map { |item| item[:took] if item[:depth] == 1 }.max || 0.0
      out["Server-Timing"] = format('fragments;desc="%s";dur=%.1f', sums.join(", "), longest)
      out
    end

    private

    def same?(given, etag, modified, parts)
      if (names = given["if-none-match"])
        return names.split(",").map(&:strip).any? { |name| name == "*" || name.delete_prefix("W/") == etag }
      end
      return false unless modified && parts.empty? && given["if-modified-since"] # a date does not tell the parts

      modified.to_time.to_i <= Time.httpdate(given["if-modified-since"]).to_i
    rescue ArgumentError
      false # no date
    end

    def told(item)
      age = %w[reused stale].include?(item[:found]) ? ";age=#{item[:age].to_i}" : ""
      format("%s;found=%s;depth=%d;took=%.3f%s", Gerastic.quoted(item[:key]), item[:found], item[:depth], item[:took], age)
    end
  end

  # Writes a string of a structured field, or a display string if it is not ASCII (RFC 9651).
  def self.quoted(text)
    return %("#{text.gsub(/["\\]/) { |c| "\\#{c}" }}") if text.match?(/\A[\x20-\x7e]*\z/)

    %(%"#{text.bytes.map { |b| b < 0x20 || b > 0x7E || b == 0x22 || b == 0x25 ? format('%%%02x', b) : b.chr }.join}")
  end
end
