require("../node-ws/client.js"); // the server behind it
