# frozen_string_literal: true

require "digest"
require "erb"

module Gerastic
  # Templates of ERB in a directory, in which blocks are fragments:
  #
  #   <%= fragment "row", parts: [sailing.id], version: sailing.updated, lifetime: "1h", sailing: sailing %>
  #   <%= fragments "row", sailings, each: :sailing, parts: [:id], lifetime: "1h" %>
  #
  # A fragment's name is that of its template. The digest of the template's text, and of those within it, is part of
  # the key, so that an edited block shows at once.
  class Templates
    WITHIN = /\b(?:fragments?|render)[\s(]+[:"']([\w.\/-]+)/
    private_constant :WITHIN

    def initialize(fragments, directory)
      @fragments = fragments
      @directory = directory
      @compiled = {}
      @lock = Mutex.new
    end

    # Renders a template; the values are its locals.
    def render(name, **values)
      file, text = source(name)
      compiled = @lock.synchronize { @compiled[file] = (known = @compiled[file]) && known[0] == text ? known : [text, ERB.new(text, trim_mode: "-").src] }
      View.new(self).evaluate(compiled[1], file, values)
    end

    # A block of a page, found or rendered.
    def fragment(name, parts: [], version: nil, lifetime: nil, stale: nil, tags: nil, **values)
      @fragments.load_or_fill(**item(name, parts, version: version, lifetime: lifetime, stale: stale, tags: tags)) { render(name, **values) }
    end

    # A block for each of a list, in one trip; parts, version and {places} of tags name members of each.
    def fragments(name, items, each:, parts: [], version: nil, lifetime: nil, stale: nil, tags: [], **values)
      place = {}.compare_by_identity
      all = items.map do |one|
        said = one.respond_to?(:fragment_key) ? Item.words_of(one) : {}
        words = item(name, (said[:parts] || []) + parts.map { |path| member(one, path) }, version: version ? member(one, version) : said[:version],
                     lifetime: lifetime || said[:lifetime], stale: stale, tags: (said[:tags] || []) + tags.map { |tag| tag.gsub(/\{([^}]*)\}/) { member(one, Regexp.last_match(1)).to_s } })
        place[words[:parts]] = one
        words
      end
      @fragments.load_or_fill_all(all) { |words| render(name, **values, each.to_sym => place[words[:parts]]) }.join
    end

    private

    def item(name, parts, **words)
      { name: name.to_s.gsub(/[^A-Za-z0-9_.-]/, ".")[0, 64], parts: [*parts, digest(name)], **words.compact }
    end

    def member(thing, path)
      path.to_s.split(".").reduce(thing) do |inner, name|
        next inner.public_send(name) unless inner.is_a?(Hash)

        inner.fetch(name.to_sym) { inner.fetch(name) }
      end
    end

    def source(name)
      file = ["", ".erb", ".html.erb"].map { |ending| File.join(@directory, "#{name}#{ending}") }.find { |path| File.file?(path) }
      raise ArgumentError, "there is no template #{name} in #{@directory}" unless file

      [file, File.read(file, encoding: "UTF-8")]
    end

    # The digest of a template's text and of those within it.
    def digest(name)
      texts = {}
      gather = lambda do |one|
        next if texts.key?(one)

        texts[one] = source(one).last
        texts[one].scan(WITHIN) { |(inner)| gather.call(inner) }
      end
      gather.call(name.to_s)
      Digest::SHA256.hexdigest(texts.sort.flatten.join("\0"))[0, 12]
    end

    # What a template can call.
    class View
      include ERB::Util

      def initialize(templates)
        @templates = templates
      end

      def render(name, **values) = @templates.render(name, **values)
      def fragment(name, **words) = @templates.fragment(name, **words)
      def fragments(name, items, **words) = @templates.fragments(name, items, **words)

      def evaluate(code, file, values)
        around = binding
        values.each { |name, value| around.local_variable_set(name, value) }
        around.eval(code, file)
      end
    end
    private_constant :View
  end
end
