# frozen_string_literal: true

module Gerastic
  # Middleware that tells the edge what is in a page, and answers early with 304: use Gerastic::Rack, fragments.
  #
  # The page is env["gerastic.page"]: after page.unchanged?(modified: …) reported true the application returns
  # anything, and the answer is a 304. Pages of text and JSON are held until they are whole, since only then it is
  # known what is in them; anything else passes as it comes.
  class Rack
    HELD = %w[text/html text/plain text/xml application/json application/xml application/xhtml+xml application/rss+xml application/atom+xml].freeze

    def initialize(app, fragments)
      @app = app
      @fragments = fragments
    end

    def call(env)
      @fragments.page(env.select { |name, _| name.start_with?("HTTP_") }) do |page|
        env["gerastic.page"] = page
        status, headers, body = @app.call(env)
        kind = headers.find { |name, _| name.downcase == "content-type" }&.last.to_s
        next [status, headers, body] unless page.not_modified || (HELD.include?(kind.split(";").first.to_s.strip.downcase) && body.respond_to?(:each))

        complete(page, status.to_i, headers, body)
      end
    end

    private

    def complete(page, status, headers, body)
      chunks = []
      begin
        body.each { |chunk| chunks << chunk }
      ensure
        body.close if body.respond_to?(:close)
      end
      told = page.headers.transform_keys(&:downcase)
      told = told.except("etag", "last-modified") unless [200, 304].include?(status)
      left_out = %w[etag last-modified gerastic-life gerastic-parts gerastic-work] & told.keys
      left_out += %w[content-length content-type content-encoding] if (unchanged = status == 200 && page.not_modified)
      out = headers.reject { |name, _| left_out.include?(name.downcase) }
      told.each do |name, value|
        given = out.keys.find { |known| known.downcase == name }
        out[given || name] = given ? "#{Array(out[given]).join(', ')}, #{value}" : value
      end
      [unchanged ? 304 : status, out, unchanged ? [] : chunks]
    end
  end
end
