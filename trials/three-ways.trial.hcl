# The harbour board again, on a morning on which a third of the clients sit behind a
# proxy that lets no upgrade through: they come by event stream, or by asking again and
# again. Who has a worse route than it might have tries for a better one.

trial "three ways" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live?client=${name}"

  route "events" {
    events       = "http://127.0.0.1:7411/events?client=${name}"
    first_within = "1s"
    post_end     = true
  }

  route "polling" {
    polling  = "http://127.0.0.1:7411/poll?client=${name}"
    post_end = true
  }
}

session "watch a lock" {
  connect {}

  enter {
    room = "lock-${n % 8 + 1}"
  }

  repeat {
    every  = "5s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning, stand by ${mark}" }
      reaches = "room"
    }
  }

  leave {}
}

crew "pilots" {
  clients = 200
  session = session["watch a lock"]
  name    = "pilot-${n}"
  retry   = "8s"
}

# Tugs begin by asking, and change over to a WebSocket as soon as they can have one.
crew "tugs" {
  clients = 60
  session = session["watch a lock"]
  name    = "tug-${n}"
  routes  = ["websocket", "polling"]
  promote = true
  retry   = "10s"
}

tide {
  flood "60%" { over = "8s" }
  flood "100%" { over = "6s" }
  slack { lasts = "40s" }
  ebb { over = "8s" }
}

limit "nothing is lost" {
  of     = ledger.lost
  equals = 0
}

limit "nor when a client changes its route" {
  of     = routes.lost_at_switch
  equals = 0
}

limit "clients get in soon" {
  of    = routes.usable.p99
  below = "3s"
}
