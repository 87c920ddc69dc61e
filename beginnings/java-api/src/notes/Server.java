package notes;

import com.sun.net.httpserver.HttpExchange;
import com.sun.net.httpserver.HttpServer;
import java.io.IOException;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.util.concurrent.Executors;

/** Serves the notes: GET /notes lists them, POST /notes adds the text of its body. */
public final class Server {
  private static final int MOST = 16 * 1024;

  public static void main(String[] args) throws IOException {
    Notes notes = new Notes();
    int port = Integer.parseInt(System.getenv("PORT"));
    HttpServer server = HttpServer.create(new InetSocketAddress(port), 0);
    server.setExecutor(Executors.newFixedThreadPool(8));
    server.createContext("/health", exchange -> send(exchange, 200, "{\"ok\":true}"));
    server.createContext("/notes", exchange -> answer(exchange, notes));
    server.createContext("/", exchange -> send(exchange, 404, "{\"error\":\"There is nothing here; try /notes.\"}"));
    // Told to end: what is asked already is answered.
    Runtime.getRuntime().addShutdownHook(new Thread(() -> server.stop(2)));
    server.start();
    System.out.println("ready");
  }

  private static void answer(HttpExchange exchange, Notes notes) throws IOException {
    switch (exchange.getRequestMethod()) {
      case "GET" -> send(exchange, 200, notes.all());
      case "POST" -> {
        String body = new String(exchange.getRequestBody().readNBytes(MOST), StandardCharsets.UTF_8);
        String added = notes.add(body);
        if (added == null) send(exchange, 422, "{\"error\":\"A note has 1 to 500 letters.\"}");
        else send(exchange, 201, "{\"text\":" + Notes.quoted(added) + "}");
      }
      default -> send(exchange, 405, "{\"error\":\"GET lists the notes, POST adds one.\"}");
    }
  }

  private static void send(HttpExchange exchange, int status, String body) throws IOException {
    byte[] bytes = (body + "\n").getBytes(StandardCharsets.UTF_8);
    exchange.getResponseHeaders().set("content-type", "application/json");
    exchange.sendResponseHeaders(status, bytes.length);
    exchange.getResponseBody().write(bytes);
    exchange.close();
  }
}
