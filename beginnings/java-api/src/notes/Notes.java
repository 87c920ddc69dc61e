package notes;

import java.util.ArrayDeque;
import java.util.Deque;
import java.util.stream.Collectors;

/** The notes, newest first. They are kept in memory: give the release a resource of the kind postgres to keep them longer. */
public final class Notes {
  private static final int MOST = 100;
  private final Deque<String> kept = new ArrayDeque<>();

  /** Null where it is no note: 1 to 500 letters. */
  public synchronized String add(String text) {
    String bare = text.strip();
    if (bare.isEmpty() || bare.length() > 500) return null;
    kept.addFirst(bare);
    if (kept.size() > MOST) kept.removeLast();
    return bare;
  }

  public synchronized String all() {
    return kept.stream().map(Notes::quoted).collect(Collectors.joining(",", "[", "]"));
  }

  /** A JSON string (RFC 8259). */
  public static String quoted(String text) {
    StringBuilder out = new StringBuilder("\"");
    for (char letter : text.toCharArray()) {
      if (letter == '"' || letter == '\\') out.append('\\').append(letter);
      else if (letter < ' ') out.append(String.format("\\u%04x", (int) letter));
      else out.append(letter);
    }
    return out.append('"').toString();
  }
}
