import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "node-packets" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/socket.io/?EIO=4&transport=websocket"
  dialect   = "theirs"
}

dialect "theirs" {
  json = match(text, "^4[0-9]([\\[{].*)$", 1) # a packet's digits stand before its JSON

  # The server opens with 0{...}; 40 asks for a session, and is answered 40{...}.
  name {
    after     = starts(text, "0{")
    first     = "40"
    then      = starts(text, "40{")
    send      = "42[\"hello\",{\"name\":\"${name}\"}]"
    confirmed = msg[0] == "hello"
  }

  enter {
    send      = "42[\"join\",{\"room\":\"${room}\"}]"
    confirmed = msg[0] == "joined" && msg[1].room == room
  }

  heard {
    when    = msg[0] == "post"
    room    = msg[1].room
    payload = msg[1].text
  }

  beat {
    when   = text == "2"
    answer = "3"
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  when {
    that = var.silent
    fall_silent { evicted_within = "8s" }
  }
  otherwise {
    pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
    repeat {
      every = "500ms"
      times = 6
      say { body = "42[\"post\",{\"room\":\"${room}\",\"text\":\"berth ${n} ${mark}\"}]" }
    }
    pause { lasts = "1m" }
  }
}
