# frozen_string_literal: true

# Fragments, purges and early answers of a Gerastic node.
#
#   fragments = Gerastic::Client.new("http://127.0.0.1:8490", token).fragments
#   card = fragments.load_or_fill(name: "card", parts: [3], lifetime: "1h", tags: ["vessel:3"]) { render_card(3) }
module Gerastic
  # The node answered that a call cannot be carried out; status is its HTTP status.
  class Refused < StandardError
    attr_reader :status

    def initialize(status, text)
      super(text)
      @status = status
    end
  end

  # The node did not answer, not in time, or not as it should.
  class Unreached < StandardError; end
end

require_relative "gerastic/cbor"
require_relative "gerastic/keys"
require_relative "gerastic/scope"
require_relative "gerastic/wire"
require_relative "gerastic/item"
require_relative "gerastic/check"
require_relative "gerastic/fragments"
require_relative "gerastic/templates"
require_relative "gerastic/rack"
require_relative "gerastic/client"
