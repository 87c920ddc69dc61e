package notes;

import java.util.Objects;

/** Checks without a library: the first that does not hold ends it. */
public final class NotesCheck {
  public static void main(String[] args) {
    Notes notes = new Notes();
    same("hello", notes.add("  hello "));
    same(null, notes.add("   "));
    same(null, notes.add("x".repeat(501)));
    notes.add("a \"quote\" \\ and \n a line");
    same("[\"a \\\"quote\\\" \\\\ and \\u000a a line\",\"hello\"]", notes.all());
    for (int n = 0; n < 200; n++) notes.add("note " + n);
    same(100, notes.all().split("\",\"").length);
    System.out.println("all hold");
  }

  private static void same(Object wanted, Object got) {
    if (!Objects.equals(wanted, got)) throw new AssertionError("wanted " + wanted + ", got " + got);
  }
}
