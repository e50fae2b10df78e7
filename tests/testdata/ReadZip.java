import java.io.*;
import java.util.*;
import java.util.zip.*;

/** Reads zips in both ways that Java has, and prints how many files each holds. */
class ReadZip {
    public static void main(String[] paths) throws IOException {
        for (String path : paths) {
            Set<String> names = new TreeSet<>();
            try (ZipInputStream in = new ZipInputStream(new BufferedInputStream(new FileInputStream(path)))) {
                for (ZipEntry e; (e = in.getNextEntry()) != null; names.add(e.getName())) in.transferTo(OutputStream.nullOutputStream());
            }
            try (ZipFile zip = new ZipFile(path)) {
                for (ZipEntry e : Collections.list(zip.entries())) {
                    if (!names.remove(e.getName())) throw new IOException(path + ": only in the directory: " + e.getName());
                    try (InputStream in = zip.getInputStream(e)) { in.transferTo(OutputStream.nullOutputStream()); }
                }
                if (!names.isEmpty()) throw new IOException(path + ": not in the directory: " + names);
                System.out.println(zip.size());
            }
        }
    }
}
