import java.io.FileInputStream;
import java.net.InetAddress;
import java.security.KeyStore;
import javax.net.ssl.KeyManagerFactory;
import javax.net.ssl.SSLContext;
import javax.net.ssl.SSLServerSocket;
import javax.net.ssl.SSLSocket;

/**
 * Listens on loopback with TLS, as a Java server does. The first argument is a keystore, each further one is
 * "PORT;VERSIONS;SUITES", where lists have commas and an empty one leaves it to the runtime.
 */
public class Listen {
    public static void main(String[] args) throws Exception {
        char[] password = "harbour".toCharArray();
        KeyStore store = KeyStore.getInstance("PKCS12");
        try (FileInputStream in = new FileInputStream(args[0])) {
            store.load(in, password);
        }
        KeyManagerFactory keys = KeyManagerFactory.getInstance(KeyManagerFactory.getDefaultAlgorithm());
        keys.init(store, password);
        SSLContext context = SSLContext.getInstance("TLS");
        context.init(keys.getKeyManagers(), null, null);
        for (int i = 1; i < args.length; i++) {
            String[] parts = args[i].split(";", -1);
            SSLServerSocket socket = (SSLServerSocket) context.getServerSocketFactory().createServerSocket(
                Integer.parseInt(parts[0]), 50, InetAddress.getLoopbackAddress());
            if (!parts[1].isEmpty()) socket.setEnabledProtocols(parts[1].split(","));
            if (!parts[2].isEmpty()) socket.setEnabledCipherSuites(parts[2].split(","));
            new Thread(() -> serve(socket)).start();
        }
    }

    static void serve(SSLServerSocket socket) {
        while (true) {
            try {
                SSLSocket connection = (SSLSocket) socket.accept();
                new Thread(() -> {
                    try (connection) {
                        connection.setSoTimeout(5000);
                        connection.startHandshake();
                        connection.getInputStream().read();
                    } catch (Exception refused) { // which is what the test wants to see
                    }
                }).start();
            } catch (Exception closed) {
                return;
            }
        }
    }
}
