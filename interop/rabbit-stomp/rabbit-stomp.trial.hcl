import "../pilots.hcl" {}

trial "rabbit-stomp" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/ws"
  dialect   = "theirs"
}

dialect "theirs" {
  split  = "\u0000" # ends a STOMP frame, which may take several of WebSocket's
  across = true

  name {
    send      = "CONNECT\naccept-version:1.2\nhost:/\nlogin:guest\npasscode:guest\nheart-beat:2000,0\n\n\u0000"
    confirmed = starts(trim(text), "CONNECTED")
  }

  enter {
    send      = "SUBSCRIBE\nid:${room}\ndestination:/topic/${room}\nreceipt:${room}\n\n\u0000"
    confirmed = starts(trim(text), "RECEIPT\n") && contains(text, "receipt-id:${room}\n")
  }

  heard {
    when    = starts(trim(text), "MESSAGE\n")
    room    = match(text, "destination:/topic/(\\S+)", 1)
    payload = match(text, "\n\n(.*)$", 1)
  }

  beat { # it was promised every 2 s
    every = "1s"
    send  = "\n"
  }
}

session "watch" {
  connect { subprotocol = "v12.stomp" }
  enter { room = "lock-${n % 3}" }
  when {
    that = var.silent
    fall_silent { evicted_within = "12s" }
  }
  otherwise {
    pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
    repeat {
      every = "500ms"
      times = 6
      say { body = "SEND\ndestination:/topic/${room}\n\nberth ${n} ${mark}\u0000" }
    }
    pause { lasts = "1m" }
  }
}
