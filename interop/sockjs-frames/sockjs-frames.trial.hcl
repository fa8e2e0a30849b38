trial "sockjs-frames" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:7500/"
  dialect   = "theirs"
}

dialect "theirs" {
  json = substr(text, 1) # behind the letter of a frame: a["text", "text"]
  each = msg

  name { after = text == "o" }

  enter {
    send      = ["{\"do\":\"join\",\"room\":\"${room}\"}"]
    confirmed = msg.did == "join" && msg.room == room
  }

  heard {
    when    = msg.did == "post"
    room    = msg.room
    payload = msg.text
  }

  beat { when = text == "h" }
}

session "watch" {
  connect { path = "/board/${n}/${crew}/websocket" }
  enter { room = "lock-${n % 3}" }
  pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
  repeat {
    every = "500ms"
    times = 6
    say { body = ["{\"do\":\"post\",\"text\":\"berth ${n} ${mark}\"}"] }
  }
  pause { lasts = "1m" }
}

crew "pilots" {
  clients = 60
  session = session.watch
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "6s" }
  ebb { over = "1s" }
}

final_check "the server counts the same" {
  request { path = "/truth" }
  holds = msg.received == messages.sent && msg.written == ledger.delivered + ledger.late + ledger.allowed
}
