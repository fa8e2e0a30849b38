import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "ruby-cable" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/cable"
  dialect   = "theirs"
}

dialect "theirs" {
  name { after = msg.type == "welcome" }

  # Which subscription a command is for stands in it, as JSON in a string.
  enter {
    send      = { command = "subscribe", identifier = "{\"channel\":\"BoardChannel\",\"room\":\"${room}\"}" }
    confirmed = msg.type == "confirm_subscription" && field(msg.identifier, "room") == room
  }

  heard {
    when    = msg.message.text != null
    room    = field(msg.identifier, "room")
    payload = msg.message.text
  }

  beat { when = msg.type == "ping" }
}

session "watch" {
  connect { subprotocol = "actioncable-v1-json" }
  enter { room = "lock-${n % 3}" }
  pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
  repeat {
    every = "500ms"
    times = 6
    say {
      body = {
        command    = "message"
        identifier = "{\"channel\":\"BoardChannel\",\"room\":\"${room}\"}"
        data       = "{\"action\":\"post\",\"text\":\"berth ${n} ${mark}\"}"
      }
    }
  }
  pause { lasts = "1m" }
}
