import "../pilots.hcl" {}

trial "mosquitto-mqtt" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  dialect = "theirs"
  promise {
    from = "client"
    every = "1s"
    deadline = "8s"
    tolerance = "20%"
  }
}

dialect "theirs" {
  binary = true
  # A packet has its length behind its first byte (MQTT 3.1.1 2.2.3), and may take several frames.
  length = 1 + length(varint(unvarint(substr(text, 1, 4)))) + unvarint(substr(text, 1, 4))

  name {
    send      = "\u0010${varint(12 + length(name))}\u0000\u0004MQTT\u0004\u0002${uint16(2)}${uint16(length(name))}${name}"
    confirmed = hex(text) == "20020000"
  }

  enter {
    send      = "${byte(130)}${varint(5 + length(room))}${uint16(1)}${uint16(length(room))}${room}\u0000"
    confirmed = starts(hex(text), "9003")
  }

  heard {
    when    = starts(text, "0")
    room    = substr(text, 4, unuint16(substr(text, 2)))
    payload = substr(text, 4 + unuint16(substr(text, 2)))
  }

  beat { # within the 2 s that the name asks for
    when  = hex(text) == "d000"
    every = "1s"
    send  = "${byte(192)}\u0000"
  }
}

session "watch" {
  connect { subprotocol = "mqtt" }
  enter { room = "lock-${n % 3}" }
  when {
    that = var.silent
    misbehave {
      do = "silent"
      evicted_within = "12s"
    }
  }
  otherwise {
    pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
    repeat {
      every = "500ms"
      times = 6
      say {
        payload = "berth ${n} ${mark}"
        body    = "0${varint(2 + length(room) + length(payload))}${uint16(length(room))}${room}${payload}"
      }
    }
    pause { lasts = "1m" }
  }
}
