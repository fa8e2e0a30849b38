# A harbour board on Action Cable: a client subscribes to channels by identifiers, which are
# JSON in a string, and sends commands for them.
require "action_cable"

TRUTH = { received: 0, written: 0 }
LOCK = Mutex.new

class Connection < ActionCable::Connection::Base
end

class BoardChannel < ActionCable::Channel::Base
  def subscribed
    stream_from("board:#{params[:room]}", coder: ActiveSupport::JSON) do |message|
      transmit message
      LOCK.synchronize { TRUTH[:written] += 1 }
    end
  end

  private def again(text)
    ENV["CHANGED"] && text == "coming in" ? { again: true } : {}
  end

  def post(data)
    LOCK.synchronize { TRUTH[:received] += 1 }
    ActionCable.server.broadcast("board:#{params[:room]}", { text: data["text"] }.merge(again(data["text"])))
  end
end

config = ActionCable.server.config
config.cable = { "adapter" => "async" }
config.logger = Logger.new(nil)
config.connection_class = -> { Connection }
config.disable_request_forgery_protection = true
config.worker_pool_size = 4

map("/cable") { run ActionCable.server }
map("/truth") do
  run ->(_) { [200, { "Content-Type" => "application/json" }, [LOCK.synchronize { TRUTH.to_json }]] }
end
