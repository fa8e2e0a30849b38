# First a single client loses its connection and comes back; then everybody does at the same
# moment. How much longer does it take when all of them come, and does each of them get what
# was said meanwhile?

trial "a crowd comes back" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

server {
  command = ["./bin/tidepull", "standin", "--listen", "127.0.0.1:7411", "--history", "2000"]
  ready   = "serving"

  # What it says of itself: is anything left when everybody has gone?
  metrics     = "http://127.0.0.1:7411/metrics"
  connections = "harbour_connections"
  members     = "harbour_members"
  presence    = "harbour_present"
}

session "watch a lock" {
  connect {}
  enter { room = "lock-${n % 40 + 1}" }

  repeat {
    every  = "10s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning ${mark}" }
      reaches = "room"
    }
  }
}

crew "pilots" {
  clients = 1000
  session = session["watch a lock"]

  reconnect { # at once, and all together: the hardest way for the board
    first    = "0s"
    factor   = 1
    jitter   = "none"
    catch_up = true
  }
}

tide {
  flood "100%" { over = "5s" }
  slack { lasts = "30s" }
  ebb { over = "3s" }
}

fault "one of them" {
  do    = "cut"
  at    = "10s"
  share = "0.1%"
}

fault "all of them" {
  do = "cut"
  at = "20s"
}

limit "everybody is back within five seconds" {
  of    = returns.back_in.max
  below = "5s"
}
